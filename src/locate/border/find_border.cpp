#include <fmt/format.h>

#include <Eigen/Dense>
#include <algorithm>
#include <cmath>

#include "border_fit.hpp"
#include "chips.hpp"
#include "heron/base/work.hpp"
#include "heron/locate/border.hpp"
#include "heron/locate/names.hpp"
#include "locate/common/cells.hpp"
#include "locate/common/find_options.hpp"
#include "locate/common/misses.hpp"

namespace heron {
namespace {

/// A side as it was met near where the whole puts it.
struct SideFound {
  bool seen = false;
  LineEdge line;      ///< off the side, inwards
  Point2 at, along;   ///< the line itself
  double off_by = 0;  ///< the farthest that an end of it lies off
};

Point2 origin_of(const BorderTarget& target) {
  const BorderSettings& s = target.settings();
  return target.taught().origin + Point2{s.corner[0], s.corner[1]};
}

/// Of each side's contrast, inwards.
std::vector<int> senses_of(const BorderSettings& s) {
  std::vector<int> senses;
  for (const double step : s.steps) senses.push_back(step < 0 ? -1 : 1);
  return senses;
}

double threshold_of(const BorderSettings& s, const PreparedPicture& prepared) {
  return s.threshold > 0 ? s.threshold : std::max(4.0, 2.5 * prepared.noise_sigma(0));
}

std::vector<SideFound> sides_near(const PreparedPicture& prepared, const Polyline& posed,
                                  const std::vector<int>& senses, double give, double threshold) {
  std::vector<SideFound> sides(posed.sides());
  for (size_t i = 0; i < posed.sides(); ++i) {
    const double length = posed.length(i);
    const auto start =
        line_near(prepared, posed, i, senses[i],
                  {.reach = give + 3, .threshold = threshold, .max_tilt = 2 * (give + 3) / length});
    if (!start) continue;
    SideFound& s = sides[i];
    s.line = settled_line(prepared, posed, i, *start);
    const Point2 u = posed.along(i), n = posed.inwards(i);
    s.at = posed.middle(i) + n * s.line.edge.at;
    s.along = (u + n * s.line.slope) / std::hypot(1, s.line.slope);
    s.off_by = std::abs(s.line.edge.at) + 0.5 * length * std::abs(s.line.slope);
    s.seen = s.line.seen >= 0.2 && s.line.edge.contrast * senses[i] > 0;
  }
  return sides;
}

/// Whether a side turned from its normal's left to its right turns as pictures count.
double turn_sense(const Polyline& line, size_t side) {
  return cross(line.along(side), line.inwards(side)) > 0 ? 1 : -1;
}

/// The pose of the whole that lies nearest to its sides, each weighed by the length that is seen.
struct PoseFit {
  BorderPose pose;
  Eigen::Matrix4d covariance = Eigen::Matrix4d::Zero();  ///< of shift, turn, scale
};

PoseFit pose_by_sides(const Polyline& taught, Point2 origin, const BorderPose& start,
                      const std::vector<SideFound>& sides, bool turns, bool scales) {
  PoseFit fit{.pose = start};
  for (int round = 0; round < 4; ++round) {
    Eigen::Matrix4d normal = Eigen::Matrix4d::Identity() * 1e-9, spread = Eigen::Matrix4d::Zero();
    Eigen::Vector4d right = Eigen::Vector4d::Zero();
    double chi_squared = 0;
    int count = 0;
    for (size_t i = 0; i < sides.size(); ++i) {
      const SideFound& s = sides[i];
      if (!s.seen) continue;
      const Point2 n = rotated(taught.inwards(i), radians(fit.pose.turn)), across{-s.along.y, s.along.x};
      const double weight = s.line.seen * taught.length(i);
      const auto add = [&](double residual, double variance, double factor, const Eigen::Vector4d& j) {
        normal += weight * factor * j * j.transpose(), right += weight * factor * residual * j;
        spread += weight * weight * factor * factor * variance * j * j.transpose();
        chi_squared += residual * residual / variance, ++count;
      };
      const Point2 posed = fit.pose.of(taught.middle(i), origin), lever = posed - origin - fit.pose.shift;
      add(dot(across, s.at - posed) / dot(across, n), s.line.edge.sigma * s.line.edge.sigma, 1,
          {n.x, n.y, turns ? dot(n, {-lever.y, lever.x}) : 0, scales ? dot(n, lever) : 0});
      // A side that gives moves rather than turns, so what it says of the turn counts for more.
      constexpr double trust = 10;
      const double arm = taught.length(i) / std::sqrt(12.0);
      const double turned = dot(s.along, n) / dot(s.along, rotated(taught.along(i), radians(fit.pose.turn)));
      if (turns)
        add(turned * arm, std::pow(arm * s.line.slope_sigma, 2), trust,
            {0, 0, arm * turn_sense(taught, i), 0});
    }
    if (!turns) normal(2, 2) = 1;
    if (!scales) normal(3, 3) = 1;
    const Eigen::Matrix4d inverse = normal.inverse();
    const Eigen::Vector4d change = inverse * right;
    if (!change.allFinite()) break;
    fit.pose.shift += Point2{change[0], change[1]};
    fit.pose.turn += turns ? change[2] : 0, fit.pose.scale *= 1 + (scales ? change[3] : 0);
    // Sides that give move the whole about: what they scatter more than their own sigma is in its sigma.
    const int free = count - 2 - (turns ? 1 : 0) - (scales ? 1 : 0);
    const double excess = free > 0 ? std::max(1.0, chi_squared / free) : 1;
    fit.covariance = inverse * spread * inverse * excess;
  }
  return fit;
}

/// How well it is known where two lines meet.
Eigen::Matrix2d corner_covariance(const SideFound& a, const SideFound& b, Point2 corner) {
  const auto across_variance = [&](const SideFound& s) {
    const double t = dot(corner - s.at, s.along);
    return std::max(
        0.0, std::pow(s.line.edge.sigma, 2) + 2 * t * s.line.shared + std::pow(t * s.line.slope_sigma, 2));
  };
  Eigen::Matrix2d normals;
  normals << -a.along.y, a.along.x, -b.along.y, b.along.x;
  const Eigen::Matrix2d inverse = normals.inverse();
  return inverse * Eigen::Vector2d(across_variance(a), across_variance(b)).asDiagonal() * inverse.transpose();
}

/// Where the corners are: where two sides that were seen meet, else where the whole puts them.
struct BorderCorners {
  std::vector<Point2> at;
  std::vector<bool> met;
  std::vector<Eigen::Matrix2d> covariance;  ///< zero where none is met
};

BorderCorners corners_of(const Polyline& posed, const std::vector<SideFound>& sides) {
  BorderCorners corners;
  for (size_t i = 0; i < posed.corners.size(); ++i) {
    const bool end = !posed.closed && (i == 0 || i + 1 == posed.corners.size());
    const SideFound& before = sides[(i + sides.size() - 1) % sides.size()];
    const SideFound& after = sides[i % sides.size()];
    const SideFound& own = !posed.closed && i + 1 == posed.corners.size() ? before : after;
    std::optional<Point2> met;
    if (!end && before.seen && after.seen) met = meeting(before.at, before.along, after.at, after.along);
    Point2 at = posed.corners[i];
    if (met)
      at = *met;
    else if (own.seen || (!end && before.seen)) {
      const SideFound& s = own.seen ? own : before;
      at = s.at + s.along * dot(at - s.at, s.along);
    }
    corners.at.push_back(at);
    corners.met.push_back(met.has_value());
    corners.covariance.push_back(met ? corner_covariance(before, after, at) : Eigen::Matrix2d::Zero());
  }
  return corners;
}

std::string range_words(double low, double high) { return fmt::format("{:g}..{:g}", low, high); }

BorderRange range_of(const BorderSettings& s, const FindOptions& options, Point2 origin, double threshold) {
  BorderRange range{.x = {-s.position_tolerance, s.position_tolerance},
                    .y = {-s.position_tolerance, s.position_tolerance},
                    .turn = options.angle,
                    .scale = options.scale,
                    .give = s.side_tolerance,
                    .threshold = threshold};
  if (!options.region.empty()) {
    const Box b = options.region.bounds();
    range.x = {b.x - origin.x, b.x + b.width - origin.x};
    range.y = {b.y - origin.y, b.y + b.height - origin.y};
  }
  return range;
}

/// Half as far again as a border may lie, and at least a few degrees and per cent.
BorderRange wider_than(BorderRange range) {
  const auto wider = [](double& low, double& high, double least) {
    const double more = std::max(least, 0.25 * (high - low));
    low -= more, high += more;
  };
  wider(range.x.min, range.x.max, 10), wider(range.y.min, range.y.max, 10);
  double low = range.turn.min.radians(), high = range.turn.max.radians();
  wider(low, high, 0.1);
  if (high - low < 2 * std::numbers::pi) range.turn = {radians(low), radians(high)};
  range.scale = {range.scale.min * 0.94, range.scale.max * 1.06};
  return range;
}

/// How far out reasons are looked for: 45 degrees of turn, a shift by half the border's size.
BorderRange far_beyond(BorderRange range, const Box& taught) {
  const double across = 0.5 * std::max(taught.width, taught.height);
  range.x.min = std::min(range.x.min, -across), range.x.max = std::max(range.x.max, across);
  range.y.min = std::min(range.y.min, -across), range.y.max = std::max(range.y.max, across);
  if ((range.turn.max - range.turn.min).degrees() < 90) {
    range.turn.min = std::min(range.turn.min, degrees(-45));
    range.turn.max = std::max(range.turn.max, degrees(45));
  }
  return range;
}

/// Measures each side against the fitted whole; a side beyond its tolerance is not
/// seen, and the limit that it misses is returned. Sets the score.
std::vector<MissReason> tell_sides(const Polyline& posed, const Polyline& taught, double give,
                                   std::vector<SideFound>& sides, Detection& one) {
  double seen_length = 0;
  std::vector<MissReason> gave;
  for (size_t i = 0; i < sides.size(); ++i) {
    SideFound& side = sides[i];
    const auto named = [&](const char* what) { return measurement::side(i + 1, what); };
    if (side.seen) {
      const Point2 n = posed.inwards(i), across{-side.along.y, side.along.x};
      const auto off_at = [&](Point2 p) { return dot(across, side.at - p) / dot(across, n); };
      const double off = off_at(posed.middle(i)),
                   turned = std::atan(dot(side.along, n) / dot(side.along, posed.along(i)));
      const double farthest = std::max(std::abs(off_at(posed.from(i))), std::abs(off_at(posed.to(i))));
      if (farthest > give) {
        gave.push_back(too_high(named("off").c_str(), farthest, give));
        side.seen = false;
      } else {
        one.measurements.push_back({named("seen"), 100 * side.line.seen});
        one.measurements.push_back({named("off"), off});
        one.measurements.push_back({named("turned"), radians(turned).degrees()});
        one.measurements.push_back({named("sigma"), side.line.edge.sigma});
        seen_length += side.line.seen * taught.length(i);
        one.contrast = std::max(one.contrast, std::abs(side.line.edge.contrast));
      }
    }
    if (!side.seen) one.measurements.push_back({named("seen"), 0});
  }
  one.score = 100 * seen_length / taught.total_length();
  return gave;
}

std::vector<MissReason> limits_missed_by(const Detection& one, const FindOptions& options,
                                         const BorderSettings& s, Point2 moved_by) {
  std::vector<MissReason> missed;
  if (!contains_turned(options.angle, one.angle))
    missed.push_back({limit::angle, one.angle.degrees(),
                      range_words(options.angle.min.degrees(), options.angle.max.degrees())});
  if (!options.scale.contains(one.scale))
    missed.push_back({limit::scale, one.scale, range_words(options.scale.min, options.scale.max)});
  const double shift = std::max(std::abs(moved_by.x), std::abs(moved_by.y));
  if (options.region.empty() && shift > s.position_tolerance)
    missed.push_back(too_high(limit::position, shift, s.position_tolerance));
  if (s.max_chip > 0 && !one.defects.empty() && one.defects[0].area > s.max_chip)
    missed.push_back(too_high(limit::chip, one.defects[0].area, s.max_chip));
  return missed;
}

/// Whether the taught part shows the like at that place, not much smaller.
bool is_mark(const Defect& chip, const BorderTarget& target, const BorderPose& pose, Point2 origin) {
  constexpr double near = 3, larger = 1.5;  // pixels; times its area
  return std::any_of(target.marks().begin(), target.marks().end(), [&](const Defect& mark) {
    const Point2 there = pose.of(Point2{mark.x, mark.y}, origin);
    return distance(there, {chip.x, chip.y}) < near &&
           chip.area < larger * mark.area * pose.scale * pose.scale + target.settings().min_chip;
  });
}

/// The border at a pose that its scans agree with: its sides, its chips, and every limit that it misses.
FindResult found_at(const BorderTarget& target, const PreparedPicture& prepared, const FindOptions& options,
                    BorderPose pose, bool turns, bool scales) {
  const BorderSettings& s = target.settings();
  const Polyline taught = polyline_of(s.polyline, s.open);
  const Point2 origin = origin_of(target);
  const std::vector<int> senses = senses_of(s);
  const double threshold = threshold_of(s, prepared);
  FindResult result;
  std::vector<SideFound> sides;
  PoseFit fit{.pose = pose};
  for (int round = 0; round < 2; ++round) {
    sides = sides_near(prepared, pose.of(taught, origin), senses, s.side_tolerance, threshold);
    for (SideFound& side : sides) side.seen = side.seen && side.off_by <= s.side_tolerance + 3;
    if (std::none_of(sides.begin(), sides.end(), [](const SideFound& f) { return f.seen; })) return result;
    fit = pose_by_sides(taught, origin, pose, sides, turns, scales);
    pose = fit.pose;
  }
  const Polyline posed = pose.of(taught, origin);
  Detection one{.target = s.name, .x = origin.x + pose.shift.x, .y = origin.y + pose.shift.y};
  one.angle = radians(pose.turn).wrapped(), one.scale = pose.scale;
  one.sigma = {std::sqrt(fit.covariance(0, 0)), std::sqrt(fit.covariance(1, 1)),
               radians(turns ? std::sqrt(fit.covariance(2, 2)) : 0),
               scales ? pose.scale * std::sqrt(fit.covariance(3, 3)) : 0};
  const std::vector<MissReason> gave = tell_sides(posed, taught, s.side_tolerance, sides, one);
  std::vector<bool> seen;
  for (const SideFound& side : sides) seen.push_back(side.seen);
  const BorderCorners corners = corners_of(posed, sides);
  Polyline met = posed;
  met.corners = corners.at;
  for (size_t i = 0; i < met.corners.size(); ++i)
    if (corners.met[i]) {
      const auto along = [&](Point2 u) { return sigma_along(corners.covariance[i], u); };
      one.points.push_back({fmt::format("corner{}", i + 1),
                            corners.at[i],
                            {along({1, 0}), along({0, 1})},
                            taught.corners[i] - origin});
    }
  for (size_t i = 0; i < met.sides(); ++i) {
    one.contours.push_back({.points = {met.from(i), met.to(i)}, .closed = false, .seen = seen[i]});
    const size_t next = (i + 1) % met.corners.size();
    if (!corners.met[i] || !corners.met[next]) continue;
    const Point2 along = met.along(i);
    one.lengths.push_back(
        {fmt::format("side{}", i + 1), met.from(i), met.to(i),
         std::max(sigma_along(corners.covariance[i], along), sigma_along(corners.covariance[next], along))});
  }
  one.taught_length = taught.length(0);
  if (s.chip_width > 0) {
    one.defects = chips_along(prepared, met, seen, s);
    std::erase_if(one.defects, [&](const Defect& chip) { return is_mark(chip, target, pose, origin); });
    one.measurements.push_back({measurement::chips, static_cast<double>(one.defects.size())});
  }
  std::vector<MissReason> missed = limits_missed_by(one, options, s, pose.shift);
  if (one.score < options.min_score) missed.insert(missed.end(), gave.begin(), gave.end());
  take(result, std::move(one), options, std::move(missed));
  return result;
}

}  // namespace

FindResult find(const BorderTarget& target, const PreparedPicture& prepared, const FindOptions& options,
                Explain explain, Work* work) {
  require_valid(options, 1);
  const BorderSettings& s = target.settings();
  const Polyline taught = polyline_of(s.polyline, s.open);
  const std::vector<int> senses = senses_of(s);
  const auto look = [&](const BorderRange& range) {
    const auto guess = guess_border(prepared, taught, origin_of(target), senses, range);
    if (work) work->advance();
    if (!guess) return FindResult{};
    return found_at(target, prepared, options, guess->pose, range.turn.min != range.turn.max,
                    range.scale.min != range.scale.max);
  };
  const BorderRange range = range_of(s, options, origin_of(target), threshold_of(s, prepared));
  if (work) work->plan(explain == Explain::never ? 1 : 3);
  FindResult result = look(range);
  if (!result.detections.empty() || explain == Explain::never) return result;
  if (work && work->stopped()) {
    result.complete = false;
    return result;
  }
  // It may lie beyond a range, which is then the reason: a little beyond, or far.
  const auto best_score = [](const FindResult& f) { return f.misses.empty() ? 0 : f.misses[0].score; };
  constexpr double clearly = 90;
  const BorderRange wider = wider_than(range);
  for (const BorderRange& beyond : {wider, far_beyond(wider, target.extent())}) {
    FindResult there = look(beyond);
    if (!there.detections.empty()) return there;
    if (best_score(there) > best_score(result) + 5) result = std::move(there);
    if (best_score(result) >= clearly) break;
    if (work && work->stopped()) {
      result.complete = false;
      break;
    }
  }
  return result;
}

}  // namespace heron
