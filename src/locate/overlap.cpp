#include "overlap.hpp"

#include <array>

namespace heron {
namespace {

using Corners = std::array<Point2, 4>;

Corners box_at(const Box& b, const Similarity2& pose) {
  return {pose * Point2{b.x, b.y}, pose * Point2{b.x + b.width, b.y},
          pose * Point2{b.x + b.width, b.y + b.height}, pose * Point2{b.x, b.y + b.height}};
}

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

double overlap(const Box& extent, const Similarity2& a, const Similarity2& b) {
  const double smaller = extent.width * extent.height * std::min(a.scale * a.scale, b.scale * b.scale);
  return smaller > 0 ? common_area(box_at(extent, a), box_at(extent, b)) / smaller : 0;
}

}  // namespace heron
