#include <fmt/format.h>

#include <algorithm>
#include <cmath>

#include "heron/locate/names.hpp"
#include "measured.hpp"

namespace heron {
namespace {

/// Where a taught thing should lie in this picture.
struct ExpectedPose {
  Point2 at;
  Angle turn;
  double scale = 1;
};

ExpectedPose expected_of(const GaugeTarget& target, const GaugeScene& scene) {
  const Point2 drawn = target.reference.position();
  return {scene.placement.at(drawn), (target.reference.angle + scene.placement.turn_at(drawn)).wrapped(),
          target.reference.scale * scene.placement.scale_at(drawn)};
}

FindOptions options_about(const ExpectedPose& expected, const Target& target, double position_px,
                          double angle_deg) {
  FindOptions options = target.options();
  options.region = Region::rectangle(
      {expected.at.x - position_px, expected.at.y - position_px, 2 * position_px, 2 * position_px});
  options.max_count = 1;
  if (honours(target.info(), "angle") && angle_deg < 180)
    options.angle = {expected.turn - degrees(angle_deg), expected.turn + degrees(angle_deg)};
  return options;
}

/// "not found within 20 px of its place; the nearest: score 43, needed at least 60".
std::string miss_words(const FindResult& result, double position_px) {
  std::string words = fmt::format("not found within {:g} px of its place", position_px);
  if (result.misses.empty() || result.misses[0].reasons.empty()) return words;
  const MissReason& why = result.misses[0].reasons[0];
  return words +
         fmt::format("; the nearest candidate has {} {:.3g}, needed {}", why.name, why.value, why.needed);
}

bool holds(const PreparedPicture& prepared, Point2 at) {
  return at.x >= -0.5 && at.y >= -0.5 && at.x <= prepared.width() - 0.5 && at.y <= prepared.height() - 0.5;
}

}  // namespace

Measured measured(const DetailGauge& gauge, const GaugeScene& scene, const GaugeTarget& detail) {
  Measured result;
  const Target& target = *detail.target;
  const ExpectedPose expected = expected_of(detail, scene);
  const double reach = gauge.position_tolerance;
  result.at = expected.at;
  const Point2 x = unit(expected.turn) * reach, y{-x.y, x.x};
  result.contours.push_back(
      {.points = {expected.at - x - y, expected.at + x - y, expected.at + x + y, expected.at - x + y},
       .closed = true,
       .seen = false});
  if (!holds(scene.prepared, expected.at)) return result.fails(Verdict::not_measured, outside_words);
  FindResult found =
      find(target, scene.prepared, options_about(expected, target, reach, gauge.angle_tolerance),
           Explain::always, scene.work);
  if (found.detections.empty()) return result.fails(Verdict::not_found, miss_words(found, reach));
  const Detection& seen = found.detections[0];
  const Point2 apart = Point2{seen.x, seen.y} - expected.at;
  // Along the part's own axes, as drawn on the reference picture.
  const Point2 own = rotated(apart, detail.reference.angle - expected.turn) * scene.plane.scale(expected.at);
  const double scale = scene.plane.scale(expected.at);
  const double size = norm(apart);
  const Point2 u = size > 0 ? apart / size : Point2{1, 0}, v{-u.y, u.x};
  const auto sigma_along = [&](Point2 d) {
    return scale * std::hypot(std::hypot(d.x * seen.sigma.x.value_or(0), d.y * seen.sigma.y.value_or(0)),
                              scene.place_sigma.along({seen.x, seen.y}, d));
  };
  const char* length_unit = scene.plane.length_unit();
  // A small offset is mostly its own error: its size then has the sigma of both directions.
  const double along = sigma_along(u), across = sigma_along(v);
  const Uncertain offset{norm(own), size * scale > 2 * across ? along : std::max(along, across)};
  const Uncertain turn{
      (seen.angle - expected.turn).wrapped().degrees(),
      radians(std::hypot(seen.sigma.angle.value_or(Angle{}).radians(), scene.place_sigma.angle)).degrees()};
  if (gauge.reads == DetailReading::offset)
    result.reads("offset", offset, length_unit);
  else if (gauge.reads == DetailReading::score)
    result.counts("score", seen.score);
  else if (seen.has_angle)
    result.reads("angle", turn, "deg");
  else
    return result.fails(Verdict::not_measured, "its target has no angle");
  const Point2 part_x = rotated(unit(expected.turn), -detail.reference.angle);
  result.values = {{"offset", offset.value, offset.sigma, length_unit},
                   {"dx", own.x, sigma_along(part_x), length_unit},
                   {"dy", own.y, sigma_along({-part_x.y, part_x.x}), length_unit}};
  if (seen.has_angle) result.values.push_back({"angle", turn.value, turn.sigma, "deg"});
  result.values.push_back({"score", seen.score, {}, ""});
  result.at = {seen.x, seen.y};
  Contour edges{.points = {expected.at, {seen.x, seen.y}}, .closed = false};
  result.contours.push_back(std::move(edges));
  constexpr size_t drawn_every = 6;  // edges lie a pixel apart
  for (size_t i = 0; i < seen.edges.size(); i += drawn_every)
    result.items.push_back({seen.edges[i].place, 0, seen.edges[i].weight > 0.5F});
  const double sx = seen.sigma.x.value_or(0), sy = seen.sigma.y.value_or(0);
  Eigen::Matrix2d covariance;
  covariance << sx * sx, 0, 0, sy * sy;
  result.feature = scene.plane.point({seen.x, seen.y}, covariance);
  return result;
}

Measured measured(const BorderGauge& gauge, const GaugeScene& scene, const GaugeTarget& border) {
  Measured result;
  const Target& target = *border.target;
  const ExpectedPose expected = expected_of(border, scene);
  result.at = expected.at;
  if (!holds(scene.prepared, expected.at)) return result.fails(Verdict::not_measured, outside_words);
  FindOptions options = options_about(expected, target, gauge.position_tolerance, gauge.angle_tolerance);
  const double slack = 0.03;
  options.scale = {expected.scale * (1 - slack), expected.scale * (1 + slack)};
  FindResult found = find(target, scene.prepared, options, Explain::always, scene.work);
  if (found.detections.empty())
    return result.fails(Verdict::not_found, miss_words(found, gauge.position_tolerance));
  Detection& seen = found.detections[0];
  result.contours = seen.contours;
  const double scale = scene.plane.scale({seen.x, seen.y});
  double count = 0, largest = 0, longest = 0, deepest = 0;
  for (const Defect& chip : seen.defects) {
    if (chip.what != "chip") continue;
    ++count;
    largest = std::max(largest, chip.area * scale * scale);
    longest = std::max(longest, chip.length * scale), deepest = std::max(deepest, chip.depth * scale);
    result.items.push_back({{chip.x, chip.y}, chip.area * scale * scale});
  }
  if (!result.items.empty()) result.at = result.items[0].at;
  const char* length_unit = scene.plane.length_unit();
  switch (gauge.reads) {
    case BorderReading::chips:
      result.counts("chips", count);
      break;
    case BorderReading::largest:
      result.counts("largest", largest), result.unit = scene.plane.area_unit();
      break;
    case BorderReading::length:
      result.counts("length", longest), result.unit = length_unit;
      break;
    case BorderReading::depth:
      result.counts("depth", deepest), result.unit = length_unit;
  }
  result.values = {{"chips", count, {}, ""},
                   {"largest", largest, {}, scene.plane.area_unit()},
                   {"length", longest, {}, length_unit},
                   {"depth", deepest, {}, length_unit},
                   {"seen", seen.score, {}, "%"}};
  return result;
}

}  // namespace heron
