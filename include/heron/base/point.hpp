#pragma once
#include <cmath>

#include "heron/base/angle.hpp"

namespace heron {

/// A point or a vector of a picture, in pixels; also one of a calculation that has no frame. A point of the
/// world is a `WorldPoint` (heron/base/frame.hpp).
struct Point2 {
  double x = 0, y = 0;
  constexpr bool operator==(const Point2&) const = default;
  constexpr Point2 operator+(Point2 b) const { return {x + b.x, y + b.y}; }
  constexpr Point2 operator-(Point2 b) const { return {x - b.x, y - b.y}; }
  constexpr Point2 operator-() const { return {-x, -y}; }
  constexpr Point2 operator*(double f) const { return {x * f, y * f}; }
  constexpr Point2 operator/(double f) const { return {x / f, y / f}; }
  constexpr Point2& operator+=(Point2 b) { return *this = *this + b; }
};

constexpr double dot(Point2 a, Point2 b) { return a.x * b.x + a.y * b.y; }
/// The z component of the cross product; positive when b lies at a positive angle from a.
constexpr double cross(Point2 a, Point2 b) { return a.x * b.y - a.y * b.x; }
inline double norm(Point2 a) { return std::hypot(a.x, a.y); }
inline double distance(Point2 a, Point2 b) { return norm(a - b); }
inline Angle direction(Point2 a) { return radians(std::atan2(a.y, a.x)); }
inline Point2 unit(Angle a) { return {cos(a), sin(a)}; }
inline Point2 rotated(Point2 p, Angle a) {
  const double c = cos(a), s = sin(a);
  return {c * p.x - s * p.y, s * p.x + c * p.y};
}
inline bool is_finite(Point2 p) { return std::isfinite(p.x) && std::isfinite(p.y); }

}  // namespace heron
