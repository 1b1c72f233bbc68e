#include <fmt/format.h>

#include <Eigen/Dense>

#include <algorithm>
#include <limits>

#include "heron/calibrate/board.hpp"
#include "heron/feature/board_points.hpp"
#include "heron/geometry/homography.hpp"
#include "heron/image/sample.hpp"
#include "lattice.hpp"

namespace heron {
namespace {

/// One way to number the lattice: column and row as signed steps of i and j.
struct Labelling {
  bool swapped, flip_column, flip_row;
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

std::vector<BoardPoint> labelled(const Grid& grid, const BoardShape& shape, const Labelling& l) {
  std::vector<BoardPoint> points;
  for (const auto& [at, index] : grid.lattice) {
    int column = l.swapped ? at.second : at.first, row = l.swapped ? at.first : at.second;
    if (l.flip_column) column = shape.columns - 1 - column;
    if (l.flip_row) row = shape.rows - 1 - row;
    points.push_back({column, row, grid.points[index]});
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
bool right_handed(const Homography& h, const BoardShape& shape) {
  return jacobian(h, {0.5 * (shape.columns - 1), 0.5 * (shape.rows - 1)}).determinant() < 0;
}

/// Whether the bar of our printed boards lies where this labelling would have it: dark all along, bright
/// beside it and beyond both ends.
bool mark_seen(const ImageView<const uint8_t>& picture, const Homography& h, BoardKind kind) {
  const double y = PrintedBoard::bar_y(kind), off = 2.6 * PrintedBoard::bar_half_width;
  double darkest_paper = 255, brightest_bar = 0;
  const auto look = [&](Point2 at, bool bar) {
    const Point2 p = apply(h, at);
    if (!can_sample(picture, p.x, p.y)) return false;
    const double grey = bilinear(picture, p.x, p.y);
    if (bar)
      brightest_bar = std::max(brightest_bar, grey);
    else
      darkest_paper = std::min(darkest_paper, grey);
    return true;
  };
  for (double x = PrintedBoard::bar_from + 0.1; x < PrintedBoard::bar_to; x += 0.2)
    if (!look({x, y}, true) || !look({x, y - off}, false) || !look({x, y + off}, false)) return false;
  if (!look({PrintedBoard::bar_from - 0.3, y}, false) || !look({PrintedBoard::bar_to + 0.3, y}, false))
    return false;
  return brightest_bar < 0.7 * darkest_paper;
}

std::vector<Labelling> fitting_labellings(const Grid& grid, const BoardShape& shape) {
  std::vector<Labelling> all;
  for (const bool swapped : {false, true}) {
    if ((swapped ? grid.size_j : grid.size_i) != shape.columns ||
        (swapped ? grid.size_i : grid.size_j) != shape.rows)
      continue;
    for (const bool flip_column : {false, true})
      for (const bool flip_row : {false, true}) all.push_back({swapped, flip_column, flip_row});
  }
  return all;
}

/// Columns and rows swapped by the caller: without a mark nobody could tell, with one it shows.
bool marked_the_other_way(const ImageView<const uint8_t>& picture, const BoardShape& shape,
                          const Grid& grid) {
  BoardShape swapped = shape;
  std::swap(swapped.columns, swapped.rows);
  for (const Labelling& labelling : fitting_labellings(grid, swapped)) {
    const auto h = pixel_from_pitch(labelled(grid, swapped, labelling));
    if (h && right_handed(*h, swapped) && mark_seen(picture, *h, shape.kind)) return true;
  }
  return false;
}

const char* name_of(BoardKind kind) { return kind == BoardKind::dots ? "dots" : "corners"; }

BoardSeen board_from(const ImageView<const uint8_t>& picture, const BoardShape& shape, const Grid& grid) {
  BoardSeen seen;
  const size_t asked = static_cast<size_t>(shape.columns) * static_cast<size_t>(shape.rows);
  if (grid.lattice.size() < 9) {
    seen.reason = fmt::format("{} of {} {} seen in a lattice; is the board there, fully lit and in focus?",
                              grid.lattice.size(), asked, name_of(shape.kind));
    return seen;
  }
  const std::vector<Labelling> labellings = fitting_labellings(grid, shape);
  if (labellings.empty()) {
    const auto [shorter, longer] =
        std::minmax(grid.size_i, grid.size_j);  // shown the way round that was asked for
    const bool wide = shape.columns >= shape.rows;
    seen.reason = fmt::format(
        "a lattice of {} x {} {} is seen, {} x {} was asked for (counted as dots, or as inner corners of a "
        "checkerboard); check --columns and --rows, and that the whole board is in sight",
        wide ? longer : shorter, wide ? shorter : longer, name_of(shape.kind), shape.columns, shape.rows);
    return seen;
  }
  if (4 * grid.lattice.size() < 3 * asked) {
    seen.reason = fmt::format(
        "{} of {} {} seen; at least three quarters are needed. What covers the board, or is it glare?",
        grid.lattice.size(), asked, name_of(shape.kind));
    return seen;
  }
  const Point2 bottom_left{-0.5, picture.height() - 0.5};
  double nearest = std::numeric_limits<double>::infinity();
  bool mirrored_mark = false;
  for (const Labelling& labelling : labellings) {
    std::vector<BoardPoint> points = labelled(grid, shape, labelling);
    const auto h = pixel_from_pitch(points);
    if (!h) continue;
    const bool mark = mark_seen(picture, *h, shape.kind);
    if (!right_handed(*h, shape)) {
      mirrored_mark = mirrored_mark || mark;
      continue;
    }
    const double far = distance(apply(*h, {0, 0}), bottom_left);
    if (seen.marked && !mark) continue;
    if ((mark && !seen.marked) || far < nearest) {
      seen.points = std::move(points);
      seen.marked = mark;
      nearest = far;
    }
  }
  if (mirrored_mark && !seen.marked) {
    seen.points.clear();
    seen.reason =
        "the board's mark is seen in mirror image; is the picture flipped, or seen through a mirror? Flip it "
        "back before measuring";
    return seen;
  }
  if (!seen.marked && marked_the_other_way(picture, shape, grid)) {
    seen.points.clear();
    seen.reason =
        fmt::format("the board's mark says that it has {} columns and {} rows; {} x {} was asked for",
                    shape.rows, shape.columns, shape.columns, shape.rows);
    return seen;
  }
  seen.found = !seen.points.empty();
  if (!seen.found) seen.reason = "the points seen lie on no plane";
  return seen;
}

BoardSeen find_dot_board(const ImageView<const uint8_t>& picture, const BoardShape& shape) {
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
      BoardSeen seen = board_from(picture, shape, grid);
      if (seen.found || best.reason.empty() || grid.lattice.size() > most) {
        best = std::move(seen);
        most = grid.lattice.size();
      }
      if (best.found) {
        std::nth_element(radii.begin(), radii.begin() + static_cast<std::ptrdiff_t>(radii.size() / 2),
                         radii.end());
        best.dot_radius_px = radii[radii.size() / 2];
        return best;
      }
    }
  return best;
}

BoardSeen find_checker_board(const ImageView<const uint8_t>& picture, const BoardShape& shape) {
  BoardSeen seen = board_from(picture, shape, grid_of(find_saddles(picture)));
  if (!seen.found) return seen;
  // Now that the spacing is known, each corner may use as much of its edges as belongs to it alone.
  const auto h = pixel_from_pitch(seen.points);
  for (BoardPoint& p : seen.points) {
    const Eigen::Matrix2d j = jacobian(*h, {static_cast<double>(p.column), static_cast<double>(p.row)});
    const double spacing = std::min(j.col(0).norm(), j.col(1).norm());
    p.pixel = refine_saddle(picture, p.pixel, std::clamp(0.4 * spacing, 4.0, 20.0));
  }
  return seen;
}

}  // namespace

BoardSeen find_board(const ImageView<const uint8_t>& picture, const BoardShape& shape) {
  shape.require_valid();
  if (picture.width() < 24 || picture.height() < 24) {
    BoardSeen seen;
    seen.reason = fmt::format("the picture has {} x {} pixels; a board needs at least 24 x 24",
                              picture.width(), picture.height());
    return seen;
  }
  return shape.kind == BoardKind::dots ? find_dot_board(picture, shape) : find_checker_board(picture, shape);
}

}  // namespace heron
