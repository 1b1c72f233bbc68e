#include "overlap.hpp"

#include <algorithm>
#include <array>
#include <cmath>

namespace heron {
namespace {

using Corners = std::array<Point2, 4>;

/// Area of two convex quadrangles in common (Sutherland, Hodgman, Reentrant polygon clipping, CACM 17, 1974).
double common_area(const Corners& a, const Corners& b) {
  // No more than eight corners; clipping by rounding alone can make more, which lie on others.
  constexpr size_t most = 8;
  std::array<Point2, most> left, next;
  std::array<double, most> inside;  // how far, times the side's length
  std::copy(a.begin(), a.end(), left.begin());
  size_t count = a.size();
  for (size_t i = 0; i < 4; ++i) {
    const Point2 from = b[i], along = b[(i + 1) % 4] - from;
    double least = 0;
    for (size_t k = 0; k < count; ++k)
      inside[k] = cross(along, left[k] - from), least = std::min(least, inside[k]);
    if (least >= 0) continue;
    size_t made = 0;
    const auto add = [&](Point2 p) {
      if (made < most) next[made++] = p;
    };
    for (size_t k = 0; k < count; ++k) {
      const size_t after = k + 1 < count ? k + 1 : 0;
      if (inside[k] >= 0) add(left[k]);
      if ((inside[k] < 0) != (inside[after] < 0))
        add(left[k] + (left[after] - left[k]) * (inside[k] / (inside[k] - inside[after])));
    }
    if (made < 3) return 0;
    std::swap(left, next), count = made;
  }
  double twice = cross(left[count - 1], left[0]);
  for (size_t k = 1; k < count; ++k) twice += cross(left[k - 1], left[k]);
  return 0.5 * std::abs(twice);
}

}  // namespace

Footprint::Footprint(const Box& box, const Similarity2& pose)
    : area(box.width * box.height * pose.scale * pose.scale) {
  const Point2 along = Point2{cos(pose.angle), sin(pose.angle)} * pose.scale, down{-along.y, along.x};
  const Point2 first = pose.position() + along * box.x + down * box.y;
  corners = {first, first + along * box.width, first + along * box.width + down * box.height,
             first + down * box.height};
}

double overlap(const Footprint& a, const Footprint& b) {
  // Apart by more than half of both diagonals: twice that, squared, is no more than the sum of squares
  // doubled.
  const Point2 along_a = a.corners[2] - a.corners[0], along_b = b.corners[2] - b.corners[0],
               twice_between = a.corners[0] + a.corners[2] - b.corners[0] - b.corners[2];
  if (dot(twice_between, twice_between) > 2 * (dot(along_a, along_a) + dot(along_b, along_b))) return 0;
  const double smaller = std::min(a.area, b.area);
  return smaller > 0 ? common_area(a.corners, b.corners) / smaller : 0;
}

}  // namespace heron
