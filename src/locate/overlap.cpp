#include "overlap.hpp"

#include <algorithm>
#include <array>
#include <cmath>

namespace heron {
namespace {

using Corners = std::array<Point2, 4>;

/// A convex polygon of at most eight corners, as two quadrangles have in common.
struct Polygon {
  std::array<Point2, 8> corners;
  size_t count = 0;
  /// Clipping by rounding alone can make more of them; they lie on others then.
  void add(Point2 p) {
    if (count < corners.size()) corners[count++] = p;
  }
};

double area_of(const Polygon& polygon) {
  double twice = 0;
  for (size_t i = 0; i < polygon.count; ++i)
    twice += cross(polygon.corners[i], polygon.corners[(i + 1) % polygon.count]);
  return 0.5 * std::abs(twice);
}

/// Area of two convex quadrangles in common (Sutherland, Hodgman, Reentrant polygon clipping, CACM 17, 1974).
double common_area(const Corners& a, const Corners& b) {
  Polygon left;
  for (const Point2& p : a) left.add(p);
  for (size_t i = 0; i < 4 && left.count > 0; ++i) {
    const Point2 from = b[i], along = b[(i + 1) % 4] - from;
    Polygon next;
    for (size_t k = 0; k < left.count; ++k) {
      const Point2 p = left.corners[k], q = left.corners[(k + 1) % left.count];
      const double dp = cross(along, p - from), dq = cross(along, q - from);
      if (dp >= 0) next.add(p);
      if ((dp < 0) != (dq < 0)) next.add(p + (q - p) * (dp / (dp - dq)));
    }
    left = next;
  }
  return left.count < 3 ? 0 : area_of(left);
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
  const double smaller = std::min(a.area, b.area);
  return smaller > 0 ? common_area(a.corners, b.corners) / smaller : 0;
}

}  // namespace heron
