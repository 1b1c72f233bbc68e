#include <fmt/format.h>

#include <algorithm>
#include <cmath>

#include "measured.hpp"

namespace heron {
namespace {

/// Distance of two points, along the line between them.
Uncertain between_points(const MeasuredPoint& a, const MeasuredPoint& b) {
  const Point2 apart = b.at - a.at;
  const double far = norm(apart);
  const Eigen::Vector2d u = far > 0 ? Eigen::Vector2d(apart.x / far, apart.y / far) : Eigen::Vector2d(1, 0);
  return {far, std::sqrt(std::max(0.0, u.dot((a.covariance + b.covariance) * u)))};
}

double radius_of(const Feature& feature) {
  const auto* circle = std::get_if<MeasuredCircle>(&feature);
  return circle ? circle->radius : 0;
}
double radius_sigma_of(const Feature& feature) {
  const auto* circle = std::get_if<MeasuredCircle>(&feature);
  return circle ? std::sqrt(circle->covariance(2, 2)) : 0;
}

/// Ends of the one line against the other, and back: the nearest or the farthest.
Uncertain line_ends(const MeasuredLine& a, const MeasuredLine& b, DistanceAt at) {
  const double sense = dot(a.normal, b.normal) < 0 ? -1 : 1;
  std::vector<Uncertain> all;
  for (const double side : {-1.0, 1.0}) {
    const auto end = [&](const MeasuredLine& line) {
      const Eigen::Vector2d n(line.normal.x, line.normal.y);
      return MeasuredPoint{line.end(side), n * n.transpose() * line.variance_at(side * line.half_length)};
    };
    all.push_back(ahead_of(a, end(b)));
    Uncertain back = ahead_of(b, end(a));
    back.value *= -sense, all.push_back(back);
  }
  const auto less = [](const Uncertain& p, const Uncertain& q) {
    return std::abs(p.value) < std::abs(q.value);
  };
  return at == DistanceAt::nearest ? *std::min_element(all.begin(), all.end(), less)
                                   : *std::max_element(all.begin(), all.end(), less);
}

/// From a line to a point or a circle: the centre, the near rim or the far one.
Uncertain line_to_point(const MeasuredLine& line, const Feature& other, DistanceAt at) {
  Uncertain result = ahead_of(line, *point_of(other));
  const double radius = radius_of(other), side = result.value < 0 ? -1 : 1;
  if (at == DistanceAt::nearest) result.value -= side * radius;
  if (at == DistanceAt::farthest) result.value += side * radius;
  if (at != DistanceAt::middle) result.sigma = std::hypot(result.sigma, radius_sigma_of(other));
  return result;
}

/// What was missing for a gauge that combines two.
Measured& missing(Measured& result, const Measured& a, const Measured& b) {
  const Measured& first = a.measured() ? b : a;
  return result.fails(first.state, first.reason);
}

}  // namespace

Measured measured(const DistanceGauge& gauge, const Measured& a, const Measured& b,
                  const MeasuringPlane& plane) {
  Measured result;
  if (!a.measured() || !b.measured()) return missing(result, a, b);
  const auto from = point_of(a.feature), to = point_of(b.feature);
  if (!from || !to)
    return result.fails(Verdict::not_measured,
                        fmt::format("'{}' has no point to measure from", gauge.between[from ? 1 : 0]));
  const auto *first = std::get_if<MeasuredLine>(&a.feature), *second = std::get_if<MeasuredLine>(&b.feature);
  Uncertain distance;
  if (first && second) {
    const Uncertain angle = angle_between(*first, *second);
    const double off = std::abs(std::remainder(angle.value, 180.0));
    result.values.push_back({"angle", off, angle.sigma, "deg"});
    if (off > gauge.max_angle)
      return result.fails(Verdict::not_measured,
                          fmt::format("the two lines are {:.2f} degrees off parallel; max_angle allows {:g}",
                                      off, gauge.max_angle));
    distance = gauge.at == DistanceAt::middle ? between_lines(*first, *second)
                                              : line_ends(*first, *second, gauge.at);
  } else if (first) {
    distance = line_to_point(*first, b.feature, gauge.at);
  } else if (second) {
    distance = line_to_point(*second, a.feature, gauge.at), distance.value = -distance.value;
  } else {
    distance = between_points(*from, *to);
    const double radii = radius_of(a.feature) + radius_of(b.feature);
    if (gauge.at == DistanceAt::nearest) distance.value = std::max(0.0, distance.value - radii);
    if (gauge.at == DistanceAt::farthest) distance.value += radii;
    if (gauge.at != DistanceAt::middle)
      distance.sigma = std::hypot(distance.sigma, radius_sigma_of(a.feature), radius_sigma_of(b.feature));
  }
  if (!gauge.with_sign) distance.value = std::abs(distance.value);
  // The line that was measured along: for drawing.
  Point2 start = from->at, end = to->at;
  if (first)
    end = start + first->normal * dot(first->normal, to->at - start);
  else if (second)
    start = end + second->normal * dot(second->normal, from->at - end);
  result.contours.push_back({.points = {plane.pixel(start), plane.pixel(end)}, .closed = false});
  result.at = plane.pixel((start + end) * 0.5);
  const MeasuredPoint middle{(start + end) * 0.5, 0.25 * (from->covariance + to->covariance)};
  result.feature = middle;
  return result.reads("distance", distance, plane.length_unit());
}

Measured measured(const AngleGauge& gauge, const Measured& a, const Measured& b) {
  Measured result;
  if (!a.measured() || !b.measured()) return missing(result, a, b);
  const auto *first = std::get_if<MeasuredLine>(&a.feature), *second = std::get_if<MeasuredLine>(&b.feature);
  if (!first || !second)
    return result.fails(Verdict::not_measured, fmt::format("'{}' has no line", gauge.between[first ? 1 : 0]));
  Uncertain angle = angle_between(*first, *second);
  if (gauge.reads == AngleReading::corner)  // between the scans, which are the normals
    angle.value =
        180 - radians(std::acos(std::clamp(dot(first->normal, second->normal), -1.0, 1.0))).degrees();
  result.at = (a.at + b.at) * 0.5;
  result.contours.push_back({.points = {a.at, b.at}, .closed = false, .seen = false});
  return result.reads("angle", angle, "deg");
}

Measured line_through(const Measured& a, const Measured& b, const MeasuringPlane& plane) {
  Measured result;
  if (!a.measured() || !b.measured()) return missing(result, a, b);
  const auto from = point_of(a.feature), to = point_of(b.feature);
  if (!from || !to || !(distance(from->at, to->at) > 0))
    return result.fails(Verdict::not_measured, "a line needs two points that are apart");
  const double length = distance(from->at, to->at);
  MeasuredLine line{.at = (from->at + to->at) * 0.5, .along = (to->at - from->at) / length};
  line.normal = {-line.along.y, line.along.x}, line.half_length = 0.5 * length;
  const Eigen::Vector2d n(line.normal.x, line.normal.y);
  const double first = n.dot(from->covariance * n), second = n.dot(to->covariance * n);
  line.sigma = 0.5 * std::sqrt(first + second), line.turn_sigma = std::sqrt(first + second) / length;
  line.shared = (second - first) / (2 * length);
  result.feature = line;
  result.contours.push_back({.points = {plane.pixel(from->at), plane.pixel(to->at)}, .closed = false});
  result.at = plane.pixel(line.at);
  return result.reads("length", between_points(*from, *to), plane.length_unit());
}

Measured measured(const ValueGauge& gauge, const Measured& of) {
  Measured result;
  result.at = of.at;
  if (!of.measured()) return result.fails(of.state, of.reason);
  std::vector<GaugeValue> all = of.values;
  all.push_back({of.quantity, of.value, of.sigma, of.unit});
  const auto value =
      std::find_if(all.begin(), all.end(), [&](const GaugeValue& v) { return v.name == gauge.reads; });
  if (value == all.end()) {
    std::string names;
    for (const GaugeValue& v : all) names += (names.empty() ? "" : ", ") + v.name;
    return result.fails(Verdict::not_measured,
                        fmt::format("'{}' has no value '{}'; it has: {}", gauge.of, gauge.reads, names));
  }
  result.reads(value->name, {value->value, value->sigma.value_or(0)}, value->unit);
  result.sigma = value->sigma;
  return result;
}

}  // namespace heron
