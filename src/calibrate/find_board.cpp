#include <fmt/format.h>

#include <Eigen/LU>

#include <algorithm>
#include <limits>
#include <map>

#include "heron/base/median.hpp"
#include "heron/calibrate/board.hpp"
#include "heron/feature/board_points.hpp"
#include "heron/geometry/homography.hpp"
#include "heron/image/sample.hpp"
#include "lattice.hpp"

namespace heron {
namespace {

/// One way to number the lattice: column and row as signed steps of i and j, from the place where the part in
/// sight begins.
struct Labelling {
  bool swapped, flip_column, flip_row;
  int first_column = 0, first_row = 0;
};

struct Grid {
  std::vector<Point2> points;
  Lattice lattice;
  int size_i = 0, size_j = 0;
};

Grid grid_of(std::vector<Point2> points) {
  Grid grid{std::move(points), {}};
  grid.lattice = grow_lattice(grid.points);
  for (const auto& [at, index] : grid.lattice)
    grid.size_i = std::max(grid.size_i, at.first + 1), grid.size_j = std::max(grid.size_j, at.second + 1);
  return grid;
}

std::vector<BoardPoint> labelled(const Grid& grid, const Labelling& l) {
  std::vector<BoardPoint> points;
  const int columns = l.swapped ? grid.size_j : grid.size_i, rows = l.swapped ? grid.size_i : grid.size_j;
  for (const auto& [at, index] : grid.lattice) {
    int column = l.swapped ? at.second : at.first, row = l.swapped ? at.first : at.second;
    if (l.flip_column) column = columns - 1 - column;
    if (l.flip_row) row = rows - 1 - row;
    points.push_back({column + l.first_column, row + l.first_row, grid.points[index]});
  }
  std::sort(points.begin(), points.end(), [](const BoardPoint& a, const BoardPoint& b) {
    return a.row != b.row ? a.row < b.row : a.column < b.column;
  });
  return points;
}

std::optional<Homography> pixel_from_pitch(const std::vector<BoardPoint>& points) {
  std::vector<Point2> from, to;
  for (const BoardPoint& p : points)
    from.push_back({static_cast<double>(p.column), static_cast<double>(p.row)}), to.push_back(p.pixel);
  return homography_from_points(from, to);
}

/// Right-handed as seen: y points down in the picture, so a positive turn in the world is a negative one
/// there.
bool right_handed(const Homography& h, const std::vector<BoardPoint>& points) {
  Point2 middle;
  for (const BoardPoint& p : points)
    middle += Point2{static_cast<double>(p.column), static_cast<double>(p.row)} /
              static_cast<double>(points.size());
  return jacobian(h, middle).determinant() < 0;
}

/// The board's surroundings of a mark, from the points nearest to it: a lens that bends lines moves the far
/// ones.
std::optional<Homography> pixel_near(const std::vector<BoardPoint>& points, Point2 at) {
  std::vector<BoardPoint> near;
  for (const BoardPoint& p : points)
    if (distance({static_cast<double>(p.column), static_cast<double>(p.row)}, at) < 4.2) near.push_back(p);
  return near.size() >= 9 ? pixel_from_pitch(near) : std::nullopt;
}

/// Whether a mark of our printed boards lies where this labelling would have it: dark on every dash, bright
/// in the gaps, beside it and beyond both ends.
bool mark_seen(const ImageView<const uint8_t>& picture, const std::vector<BoardPoint>& points,
               const PrintedBoard::Mark& mark) {
  const auto h = pixel_near(points, (mark.from + mark.to) * 0.5);
  if (!h) return false;
  const Point2 along = (mark.to - mark.from) / distance(mark.to, mark.from), across{-along.y, along.x};
  double darkest_paper = 255, brightest_bar = 0;
  const auto look = [&](Point2 at, bool bar) {
    const Point2 p = apply(*h, at);
    if (!can_sample(picture, p.x, p.y)) return false;
    const double grey = bilinear(picture, p.x, p.y);
    if (bar)
      brightest_bar = std::max(brightest_bar, grey);
    else
      darkest_paper = std::min(darkest_paper, grey);
    return true;
  };
  const double off = 2.6 * PrintedBoard::bar_half_width, length = distance(mark.from, mark.to),
               part = length / (2 * mark.dashes - 1);
  for (int k = 0; k < 2 * mark.dashes - 1; ++k)
    for (const double share : {0.28, 0.5, 0.72}) {
      const Point2 at = mark.from + along * ((k + share) * part);
      if (!look(at, k % 2 == 0) || !look(at + across * off, false) || !look(at - across * off, false))
        return false;
    }
  if (!look(mark.from - along * 0.3, false) || !look(mark.to + along * 0.3, false)) return false;
  return brightest_bar < 0.7 * darkest_paper;
}

int marks_seen(const ImageView<const uint8_t>& picture, const std::vector<BoardPoint>& points,
               const BoardShape& shape) {
  int count = 0;
  for (const PrintedBoard::Mark& mark : PrintedBoard::marks(shape)) count += mark_seen(picture, points, mark);
  return count;
}

/// Every labelling under which the grid is the board, or the part of it that begins at some column and row.
std::vector<Labelling> fitting_labellings(const Grid& grid, const BoardShape& shape) {
  std::vector<Labelling> all;
  for (const bool swapped : {false, true}) {
    const int columns = swapped ? grid.size_j : grid.size_i, rows = swapped ? grid.size_i : grid.size_j;
    for (int first_column = 0; first_column + columns <= shape.columns; ++first_column)
      for (int first_row = 0; first_row + rows <= shape.rows; ++first_row)
        for (const bool flip_column : {false, true})
          for (const bool flip_row : {false, true})
            all.push_back({swapped, flip_column, flip_row, first_column, first_row});
  }
  return all;
}

/// Columns and rows swapped by the caller: without a mark nobody could tell, with one it shows.
bool marked_the_other_way(const ImageView<const uint8_t>& picture, const BoardShape& shape,
                          const Grid& grid) {
  BoardShape swapped = shape;
  std::swap(swapped.columns, swapped.rows);
  for (const Labelling& labelling : fitting_labellings(grid, swapped)) {
    const std::vector<BoardPoint> points = labelled(grid, labelling);
    const auto h = pixel_from_pitch(points);
    if (h && right_handed(*h, points) && marks_seen(picture, points, swapped) > 0) return true;
  }
  return false;
}

const char* name_of(BoardKind kind) { return kind == BoardKind::dots ? "dots" : "corners"; }

std::string wrong_size(const Grid& grid, const BoardShape& shape) {
  const auto [shorter, longer] =
      std::minmax(grid.size_i, grid.size_j);  // shown the way round that was asked for
  const bool wide = shape.columns >= shape.rows;
  return fmt::format(
      "a lattice of {} x {} {} is seen, {} x {} was asked for (counted as dots, or as inner corners of a "
      "checkerboard); check --columns and --rows, and that the whole board is in sight",
      wide ? longer : shorter, wide ? shorter : longer, name_of(shape.kind), shape.columns, shape.rows);
}

/// The labelling with most marks, of those the one whose origin lies nearest the picture's bottom left.
struct Chosen {
  std::vector<BoardPoint> points;
  int marks = 0, rivals = 0;  ///< rivals: others with as many marks
  bool mirrored_mark = false;
};

Chosen choose_labelling(const ImageView<const uint8_t>& picture, const BoardShape& shape, const Grid& grid) {
  const Point2 bottom_left{-0.5, picture.height() - 0.5};
  Chosen chosen;
  double nearest = std::numeric_limits<double>::infinity();
  // One fit an orientation; where the part begins only shifts it.
  std::vector<std::pair<Labelling, std::optional<Homography>>> orientations;
  const auto from_part = [&](const Labelling& l) -> std::optional<Homography> {
    for (const auto& [known, h] : orientations) {
      if (known.swapped != l.swapped || known.flip_column != l.flip_column || known.flip_row != l.flip_row ||
          !h)
        continue;
      Homography shift = Homography::Identity();
      shift(0, 2) = -l.first_column, shift(1, 2) = -l.first_row;
      return Homography(*h * shift);
    }
    return std::nullopt;
  };
  for (const Labelling& labelling : fitting_labellings(grid, shape)) {
    std::vector<BoardPoint> points = labelled(grid, labelling);
    if (labelling.first_column == 0 && labelling.first_row == 0)
      orientations.emplace_back(labelling, pixel_from_pitch(points));
    const auto h = from_part(labelling);
    if (!h) continue;
    const int marks = marks_seen(picture, points, shape);
    if (!right_handed(*h, points)) {
      chosen.mirrored_mark = chosen.mirrored_mark || marks > 0;
      continue;
    }
    const double far = distance(
        apply(*h, {static_cast<double>(labelling.first_column), static_cast<double>(labelling.first_row)}),
        bottom_left);
    if (marks < chosen.marks) continue;
    chosen.rivals = marks > chosen.marks ? 0 : chosen.rivals + (chosen.points.empty() ? 0 : 1);
    if (marks > chosen.marks || far < nearest - 1e-9) {
      chosen.points = std::move(points);
      chosen.marks = marks;
      nearest = far;
    }
  }
  return chosen;
}

BoardSeen board_from(const ImageView<const uint8_t>& picture, const BoardShape& shape,
                     const BoardSearch& search, const Grid& grid) {
  BoardSeen seen;
  const size_t asked = static_cast<size_t>(shape.columns) * static_cast<size_t>(shape.rows);
  if (grid.lattice.size() < 9) {
    seen.reason = fmt::format("{} of {} {} seen in a lattice; is the board there, fully lit and in focus?",
                              grid.lattice.size(), asked, name_of(shape.kind));
    return seen;
  }
  const auto [shorter, longer] = std::minmax(grid.size_i, grid.size_j);
  const auto [least, most] = std::minmax(shape.columns, shape.rows);
  seen.whole = shorter == least && longer == most;
  if (shorter > least || longer > most || (!seen.whole && shorter < 4)) {
    seen.reason = wrong_size(grid, shape);
    return seen;
  }
  if (4 * grid.lattice.size() < 3 * static_cast<size_t>(grid.size_i) * static_cast<size_t>(grid.size_j)) {
    seen.reason = fmt::format(
        "{} of {} {} seen; at least three quarters are needed. What covers the board, or is it glare?",
        grid.lattice.size(), asked, name_of(shape.kind));
    return seen;
  }
  Chosen chosen = choose_labelling(picture, shape, grid);
  if (chosen.mirrored_mark && chosen.marks == 0) {
    seen.reason =
        "the board's mark is seen in mirror image; is the picture flipped, or seen through a mirror? Flip it "
        "back before measuring";
    return seen;
  }
  if (chosen.marks == 0 && marked_the_other_way(picture, shape, grid)) {
    seen.reason =
        fmt::format("the board's mark says that it has {} columns and {} rows; {} x {} was asked for",
                    shape.rows, shape.columns, shape.columns, shape.rows);
    return seen;
  }
  if (!seen.whole && !search.any_part && (chosen.marks == 0 || chosen.rivals > 0)) {
    seen.reason = wrong_size(grid, shape) +
                  "; of a part, one of the board's marks must be in sight, to tell which part it is";
    return seen;
  }
  seen.points = std::move(chosen.points);
  seen.marked = chosen.marks > 0 && (seen.whole || chosen.rivals == 0);
  seen.found = !seen.points.empty();
  if (!seen.found) seen.reason = "the points seen lie on no plane";
  return seen;
}

BoardSeen find_dot_board(const ImageView<const uint8_t>& picture, const BoardShape& shape,
                         const BoardSearch& search) {
  BoardSeen best;
  size_t most = 0;
  const int smaller = std::min(picture.width(), picture.height());
  for (const bool bright : {false, true})
    for (const int share : {10, 4, 25}) {
      const std::vector<DotSeen> dots = find_dots(picture, std::max(9, smaller / share) | 1, bright);
      std::vector<Point2> centres;
      std::vector<double> radii;
      for (const DotSeen& d : dots) centres.push_back(d.centre), radii.push_back(d.radius_px);
      const Grid grid = grid_of(std::move(centres));
      BoardSeen seen = board_from(picture, shape, search, grid);
      if (seen.found) seen.dot_radius_px = median(radii);
      if (seen.found && seen.whole) return seen;
      // A part is kept until no window shows more of the board.
      if (seen.found != best.found ? seen.found : grid.lattice.size() >= most) {
        best = std::move(seen);
        most = grid.lattice.size();
      }
    }
  return best;
}

BoardSeen find_checker_board(const ImageView<const uint8_t>& picture, const BoardShape& shape,
                             const BoardSearch& search) {
  BoardSeen seen = board_from(picture, shape, search, grid_of(find_saddles(picture, true)));
  // Small squares, or more of the board, may show only in the whole picture.
  if (!seen.found || !seen.whole) seen = board_from(picture, shape, search, grid_of(find_saddles(picture)));
  if (!seen.found) return seen;
  // Now that spacing and directions are known, each corner may use as much of its edges as belongs to it
  // alone.
  std::map<std::pair<int, int>, Point2> at;
  for (const BoardPoint& p : seen.points) at[{p.column, p.row}] = p.pixel;
  const auto along = [&](const BoardPoint& p, int i, int j) -> std::optional<Point2> {
    const auto ahead = at.find({p.column + i, p.row + j}), behind = at.find({p.column - i, p.row - j});
    if (ahead != at.end() && behind != at.end()) return (ahead->second - behind->second) / 2;
    if (ahead != at.end()) return ahead->second - p.pixel;
    if (behind != at.end()) return p.pixel - behind->second;
    return std::nullopt;
  };
  std::vector<CornerSeen> corners;
  for (const BoardPoint& p : seen.points) {
    const auto column = along(p, 1, 0), row = along(p, 0, 1);
    corners.push_back({p.pixel, column ? *column : Point2{}, row ? *row : Point2{}});
  }
  refine_corners(picture, corners);
  for (size_t i = 0; i < corners.size(); ++i) seen.points[i].pixel = corners[i].at;
  return seen;
}

}  // namespace

BoardSeen find_board(const ImageView<const uint8_t>& picture, const BoardShape& shape,
                     const BoardSearch& search) {
  shape.require_valid();
  if (picture.width() < 24 || picture.height() < 24) {
    BoardSeen seen;
    seen.reason = fmt::format("the picture has {} x {} pixels; a board needs at least 24 x 24",
                              picture.width(), picture.height());
    return seen;
  }
  return shape.kind == BoardKind::dots ? find_dot_board(picture, shape, search)
                                       : find_checker_board(picture, shape, search);
}

}  // namespace heron
