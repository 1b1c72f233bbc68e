#pragma once
#include <cmath>
#include <cstdint>
#include <optional>

#include "heron/base/point.hpp"

namespace heron {

/// Choices for a random sample consensus (Fischler, Bolles, Random sample consensus, CACM 24, 1981): the same
/// in every run, and each search has its own.
class SampleRandom {
 public:
  size_t below(size_t n) { return (state_ = state_ * 1664525u + 1013904223u) / 65536u % n; }

 private:
  uint32_t state_ = 1;
};

struct Circle {
  Point2 centre;
  double radius = 0;
};

/// Nothing when the three lie on a line.
inline std::optional<Circle> circle_through(Point2 a, Point2 b, Point2 c) {
  const Point2 p = b - a, q = c - a;
  const double twice = 2 * cross(p, q);
  if (std::abs(twice) < 1e-6) return std::nullopt;
  const Point2 to{(q.y * dot(p, p) - p.y * dot(q, q)) / twice, (p.x * dot(q, q) - q.x * dot(p, p)) / twice};
  return Circle{a + to, norm(to)};
}

}  // namespace heron
