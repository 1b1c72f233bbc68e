#include "border_fit.hpp"

#include <Eigen/Dense>
#include <algorithm>
#include <cmath>

#include "heron/base/median.hpp"
#include "locate/common/consensus.hpp"

namespace heron {
namespace {

/// An edge that a scan met, and how strong.
struct Meeting {
  double off = 0;       ///< pixels inwards of the side
  double strength = 0;  ///< grey levels, signed
  double weight = 1;    ///< what it counts where poses are compared: 0.5 for a faint one to 1
};

/// One scan across a side.
struct SideScan {
  size_t side = 0;
  double t = 0;  ///< of its place along the side, from the middle
  Point2 at, inwards;
  std::vector<Meeting> met;
};

constexpr size_t max_met = 6;  // of a scan: the strongest

std::vector<Meeting> meetings(const PreparedPicture& prepared, const Scan& scan, double reach, int sense,
                              double threshold) {
  const auto strength = strength_along(LaneReader(prepared.level(0), scan).mean_of(0, scan.lanes()), false);
  std::vector<Meeting> met;
  for (size_t k = 1; k + 1 < strength.size(); ++k) {
    const double here = strength[k], size = std::abs(here), sign = here < 0 ? -1 : 1;
    if (size < threshold || (sense != 0 && sign != sense)) continue;
    if (!(size > sign * strength[k - 1] && size >= sign * strength[k + 1])) continue;
    const double bend = sign * (strength[k - 1] - 2 * here + strength[k + 1]);
    const double shift = bend < 0 ? 0.5 * sign * (strength[k - 1] - strength[k + 1]) / bend : 0;
    const double along = static_cast<double>(k) + std::clamp(shift, -0.5, 0.5);
    const Point2 p = scan.at(along, 0);
    if (p.x < 0 || p.y < 0 || p.x > prepared.width() - 1 || p.y > prepared.height() - 1) continue;
    met.push_back({.off = along - reach, .strength = here});
  }
  if (met.size() > max_met) {
    std::stable_sort(met.begin(), met.end(), [](const Meeting& a, const Meeting& b) {
      return std::abs(a.strength) > std::abs(b.strength);
    });
    met.resize(max_met);
  }
  return met;
}

/// Scans across a side: pixels to either side of it, grey levels of an edge, pixels from each other at least.
struct AcrossScan {
  double reach, threshold, apart;
};

/// The ends of the side are left out.
std::vector<SideScan> scans_across(const PreparedPicture& prepared, const Polyline& line, size_t side,
                                   int sense, const AcrossScan& across) {
  const double length = line.length(side), margin = std::min(8.0, length / 6);
  const int count = std::clamp(static_cast<int>((length - 2 * margin) / across.apart), 4, 40);
  const Point2 n = line.inwards(side), u = line.along(side), middle = line.middle(side);
  const double lanes = std::clamp((length - 2 * margin) / count, 1.0, 7.0);
  std::vector<SideScan> scans;
  for (int i = 0; i < count; ++i) {
    SideScan s{.side = side,
               .t = (length - 2 * margin) * ((i + 0.5) / count - 0.5),
               .at = {},
               .inwards = n,
               .met = {}};
    s.at = middle + u * s.t;
    const Scan scan =
        Scan::band({s.at.x, s.at.y, 2 * across.reach, lanes, direction(n).degrees()}, "a scan across a side");
    s.met = meetings(prepared, scan, across.reach, sense, across.threshold);
    scans.push_back(std::move(s));
  }
  return scans;
}

double nearness(double residual, double within) {
  const double t = residual / within;
  return std::abs(t) < 1 ? 1 - t * t : 0;
}

/// The pose's unknowns: shift, and turn and scale where they are free.
struct Unknowns {
  bool turn = true, scale = true;
  int count() const { return 2 + (turn ? 1 : 0) + (scale ? 1 : 0); }
  /// How `inwards . (moved point)` grows with each.
  Eigen::VectorXd row(const SideScan& s, Point2 origin) const {
    Eigen::VectorXd j(count());
    const Point2 lever = s.at - origin;
    j[0] = s.inwards.x, j[1] = s.inwards.y;
    int k = 2;
    if (turn) j[k++] = dot(s.inwards, Point2{-lever.y, lever.x});
    if (scale) j[k++] = dot(s.inwards, lever);
    return j;
  }
};

/// Scans with the rows of their unknowns.
struct ScanRows {
  std::vector<SideScan> scans;
  std::vector<Eigen::VectorXd> rows;
  double agreement(const Eigen::VectorXd& q, double within) const {
    double sum = 0;
    for (size_t i = 0; i < scans.size(); ++i) {
      const double expected = rows[i].dot(q);
      double best = 0;
      for (const Meeting& m : scans[i].met)
        best = std::max(best, m.weight * nearness(m.off - expected, within));
      sum += best;
    }
    return sum;
  }
  /// Least squares over what lies nearest, weighed by nearness, a few times over.
  Eigen::VectorXd settled(Eigen::VectorXd q, double within) const {
    const auto n = q.size();
    for (int round = 0; round < 5; ++round) {
      Eigen::MatrixXd normal = Eigen::MatrixXd::Identity(n, n) * 1e-6;
      Eigen::VectorXd right = Eigen::VectorXd::Zero(n);
      for (size_t i = 0; i < scans.size(); ++i) {
        const double expected = rows[i].dot(q);
        double best = 0, residual = 0;
        for (const Meeting& m : scans[i].met)
          if (const double w = m.weight * nearness(m.off - expected, within); w > best)
            best = w, residual = m.off - expected;
        normal += best * rows[i] * rows[i].transpose(), right += best * residual * rows[i];
      }
      const Eigen::VectorXd change = normal.ldlt().solve(right);
      if (!change.allFinite()) break;
      q += change;
    }
    return q;
  }
};

/// A piece of the range that is small enough for scans across the sides as they stand in its middle.
struct Cell {
  BorderPose middle;
  double half_turn = 0, half_scale = 0;
};

std::vector<Cell> cells_of(const BorderRange& range) {
  constexpr double wide_turn = 0.07, wide_scale = 0.05;  // half: 4 degrees, 5 per cent
  const double low = range.turn.min.radians(), high = range.turn.max.radians(),
               small = std::log(range.scale.min), large = std::log(range.scale.max);
  const int turns = std::max(1, static_cast<int>(std::ceil((high - low) / (2 * wide_turn)))),
            scales = std::max(1, static_cast<int>(std::ceil((large - small) / (2 * wide_scale))));
  std::vector<Cell> cells;
  for (int i = 0; i < turns; ++i)
    for (int k = 0; k < scales; ++k) {
      Cell c;
      c.half_turn = 0.5 * (high - low) / turns, c.half_scale = 0.5 * (large - small) / scales;
      c.middle.shift = {0.5 * (range.x.min + range.x.max), 0.5 * (range.y.min + range.y.max)};
      c.middle.turn = low + (2 * i + 1) * c.half_turn;
      c.middle.scale = std::exp(small + (2 * k + 1) * c.half_scale);
      cells.push_back(c);
    }
  // What is nearest to the taught pose comes first, and has the spot when another agrees as well.
  std::stable_sort(cells.begin(), cells.end(), [](const Cell& a, const Cell& b) {
    return std::abs(a.middle.turn) < std::abs(b.middle.turn);
  });
  return cells;
}

/// A groove or a shadow beside the border is fainter than the border mostly, and counts for less.
void weigh_by_strength(std::vector<SideScan>& scans) {
  std::vector<double> strongest;
  for (const SideScan& s : scans) {
    double most = 0;
    for (const Meeting& m : s.met) most = std::max(most, std::abs(m.strength));
    if (most > 0) strongest.push_back(most);
  }
  if (strongest.empty()) return;
  const double usual = median(strongest);
  for (SideScan& s : scans)
    for (Meeting& m : s.met) m.weight = 0.5 + 0.5 * std::min(1.0, std::abs(m.strength) / usual);
}

BorderPose moved(const BorderPose& pose, const Eigen::VectorXd& q, const Unknowns& unknowns) {
  BorderPose result = pose;
  result.shift += Point2{q[0], q[1]};
  int k = 2;
  if (unknowns.turn) result.turn += q[k++];
  if (unknowns.scale) result.scale *= 1 + q[k++];
  return result;
}

struct TaughtBorder {
  const Polyline& line;
  Point2 origin;
  const std::vector<int>& senses;
};

/// What the best drawn pose of a cell agrees with.
std::optional<BorderGuess> best_in_cell(const PreparedPicture& prepared, const TaughtBorder& border,
                                        const BorderRange& range, const Cell& cell,
                                        const Unknowns& unknowns) {
  const Polyline posed = cell.middle.of(border.line, border.origin);
  const Point2 centre = border.origin + cell.middle.shift;
  const double half_x = 0.5 * (range.x.max - range.x.min), half_y = 0.5 * (range.y.max - range.y.min);
  ScanRows all;
  for (size_t side = 0; side < posed.sides(); ++side) {
    const Point2 n = posed.inwards(side), a = posed.from(side) - centre, b = posed.to(side) - centre;
    const double swing = std::max(std::abs(cross(a, n)), std::abs(cross(b, n))) * cell.half_turn,
                 growth = std::max(std::abs(dot(a, n)), std::abs(dot(b, n))) * cell.half_scale;
    const double reach = std::abs(n.x) * half_x + std::abs(n.y) * half_y + swing + growth + range.give + 3;
    const AcrossScan across{reach, range.threshold, std::max(10.0, posed.total_length() / 120)};
    for (SideScan& s : scans_across(prepared, posed, side, border.senses[side], across))
      all.scans.push_back(std::move(s));
  }
  weigh_by_strength(all.scans);
  for (const SideScan& s : all.scans) all.rows.push_back(unknowns.row(s, centre));
  std::vector<size_t> useful;
  size_t meetings = 0;
  for (size_t i = 0; i < all.scans.size(); ++i)
    if (!all.scans[i].met.empty()) useful.push_back(i), meetings += all.scans[i].met.size();
  const int n = unknowns.count();
  if (static_cast<int>(useful.size()) < std::max(n, 6)) return std::nullopt;
  // So many draws that all of one lie on the border, with odds of a thousand to one (half the scans see it).
  const double chance = std::pow(0.5 * static_cast<double>(useful.size()) / static_cast<double>(meetings), n);
  const int draws = static_cast<int>(std::clamp(7 / std::max(chance, 1e-9), 200.0, 6000.0));
  const double within = std::max(range.give, 2.0) + 1;
  // Ranges are strict; a little more is let through, since whole and sides are settled afterwards.
  const auto allowed = [&](const Eigen::VectorXd& q) {
    return std::abs(q[0]) <= half_x + within && std::abs(q[1]) <= half_y + within &&
           (!unknowns.turn || std::abs(q[2]) <= cell.half_turn + 0.004) &&
           (!unknowns.scale || std::abs(q[n - 1]) <= cell.half_scale + 0.004);
  };
  SampleRandom draw;
  Eigen::VectorXd best_q;
  double most = 0, drawn_most = 0;
  Eigen::MatrixXd m(n, n);
  Eigen::VectorXd off(n);
  for (int round = 0; round < draws; ++round) {
    for (int k = 0; k < n; ++k) {
      const size_t i = useful[draw.below(useful.size())];
      m.row(k) = all.rows[i].transpose();
      off[k] = all.scans[i].met[draw.below(all.scans[i].met.size())].off;
    }
    const Eigen::PartialPivLU<Eigen::MatrixXd> solver(m);
    const Eigen::VectorXd q = solver.solve(off);
    if (!q.allFinite()) continue;
    if (!allowed(q)) continue;
    const double agree = all.agreement(q, within);
    if (agree <= drawn_most) continue;
    // The best drawn so far is settled at once (Chum, Matas, Kittler, Locally optimized RANSAC, DAGM 2003):
    // few scans give a rough pose, all that agree with it a good one.
    drawn_most = agree;
    const Eigen::VectorXd better = all.settled(all.settled(q, 2 * within), within);
    const double settled_agree = all.agreement(better, within);
    if (allowed(better) && settled_agree > most) most = settled_agree, best_q = better;
  }
  if (most == 0) return std::nullopt;
  return BorderGuess{moved(cell.middle, best_q, unknowns),
                     all.agreement(best_q, within) / static_cast<double>(all.scans.size())};
}

}  // namespace

std::optional<SideLine> line_near(const PreparedPicture& prepared, const Polyline& line, size_t side,
                                  int sense, const SideSearch& search) {
  const auto scans =
      scans_across(prepared, line, side, sense, {std::max(search.reach, 4.0), search.threshold, 8});
  const double within = 1.6;
  std::optional<SideLine> best;
  double most = 0, agreeing = 0;
  for (size_t i = 0; i < scans.size(); ++i)
    for (size_t k = i + 1; k < scans.size(); ++k)
      for (const Meeting& a : scans[i].met)
        for (const Meeting& b : scans[k].met) {
          if (a.strength * b.strength < 0) continue;
          const double tilt = (b.off - a.off) / (scans[k].t - scans[i].t);
          if (std::abs(tilt) > search.max_tilt) continue;
          const double off = a.off - tilt * scans[i].t;
          double sum = 0, count = 0, strength = 0;
          for (const SideScan& s : scans) {
            double nearest = 0, there = 0;
            for (const Meeting& m : s.met)
              if (m.strength * a.strength > 0)
                if (const double w = nearness(m.off - off - tilt * s.t, within); w > nearest)
                  nearest = w, there = m.strength;
            sum += nearest * std::abs(there);
            if (nearest > 0) ++count, strength += there;
          }
          if (sum > most) most = sum, agreeing = count, best = SideLine{off, tilt, strength / count};
        }
  if (!best || agreeing * 4 < static_cast<double>(scans.size()) || agreeing < 3) return std::nullopt;
  return best;
}

LineEdge settled_line(const PreparedPicture& prepared, const Polyline& line, size_t side,
                      const SideLine& start) {
  const double length = line.length(side), margin = std::min(8.0, length / 6);
  const Point2 middle = line.middle(side);
  constexpr double half = 10;  // pixels of the scan to either side of where the line is thought to be
  const double span = half + std::abs(start.tilt) * 0.5 * length + std::abs(start.off);
  const Scan scan = Scan::band(
      {middle.x, middle.y, 2 * span, length - 2 * margin, direction(line.inwards(side)).degrees()}, "a side");
  // Lanes run the other way round than the side where inwards lies to its left.
  const double way = cross(line.along(side), line.inwards(side)) > 0 ? -1 : 1;
  LineEdge met = line_through(scan, strips_of(prepared.level(0), scan),
                              {.at = span + start.off, .contrast = start.contrast},
                              std::max(prepared.noise_sigma(0), 0.3), way * start.tilt);
  met.edge.at -= span, met.slope *= way, met.shared *= way;
  return met;
}

std::optional<BorderGuess> guess_border(const PreparedPicture& prepared, const Polyline& taught,
                                        Point2 origin, const std::vector<int>& senses,
                                        const BorderRange& range) {
  const Unknowns unknowns{range.turn.min != range.turn.max, range.scale.min != range.scale.max};
  std::optional<BorderGuess> best;
  for (const Cell& cell : cells_of(range)) {
    const auto found = best_in_cell(prepared, {taught, origin, senses}, range, cell, unknowns);
    if (found && (!best || found->agree > best->agree + 0.02)) best = found;
  }
  if (!best) return best;
  // Once more from there, where scans stand square to the sides.
  BorderRange near = range;
  near.x = {best->pose.shift.x - 3, best->pose.shift.x + 3};
  near.y = {best->pose.shift.y - 3, best->pose.shift.y + 3};
  Cell cell{
      .middle = best->pose, .half_turn = unknowns.turn ? 0.02 : 0, .half_scale = unknowns.scale ? 0.02 : 0};
  if (const auto again = best_in_cell(prepared, {taught, origin, senses}, near, cell, unknowns)) best = again;
  return best;
}

}  // namespace heron
