#include "feature.hpp"

#include <cmath>

#include "heron/base/angle.hpp"

namespace heron {

std::optional<MeasuredPoint> point_of(const Feature& feature) {
  if (const auto* point = std::get_if<MeasuredPoint>(&feature)) return *point;
  if (const auto* circle = std::get_if<MeasuredCircle>(&feature))
    return MeasuredPoint{circle->centre, circle->covariance.topLeftCorner<2, 2>()};
  if (const auto* line = std::get_if<MeasuredLine>(&feature)) {
    // Along the line its middle is where the band was laid, not what was seen.
    const Eigen::Vector2d n(line->normal.x, line->normal.y);
    return MeasuredPoint{line->at, n * n.transpose() * (line->sigma * line->sigma)};
  }
  return std::nullopt;
}

Uncertain ahead_of(const MeasuredLine& line, const MeasuredPoint& point) {
  const Point2 apart = point.at - line.at;
  const Eigen::Vector2d n(line.normal.x, line.normal.y);
  const double variance = n.dot(point.covariance * n) + line.variance_at(dot(line.along, apart));
  return {dot(line.normal, apart), std::sqrt(variance)};
}

Uncertain between_lines(const MeasuredLine& a, const MeasuredLine& b) {
  const MeasuredPoint middle{(a.at + b.at) * 0.5};
  // b's normal may point the other way: its scan may have run back.
  const double sense = dot(a.normal, b.normal) < 0 ? -1 : 1;
  const Uncertain from_a = ahead_of(a, middle), from_b = ahead_of(b, middle);
  return {from_a.value - sense * from_b.value, std::hypot(from_a.sigma, from_b.sigma)};
}

Uncertain angle_between(const MeasuredLine& a, const MeasuredLine& b) {
  const double turn = std::atan2(cross(a.along, b.along), dot(a.along, b.along));
  return {radians(turn).degrees(), radians(std::hypot(a.turn_sigma, b.turn_sigma)).degrees()};
}

}  // namespace heron
