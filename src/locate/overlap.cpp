#include "overlap.hpp"

#include <array>
#include <vector>

namespace heron {
namespace {

using Corners = std::array<Point2, 4>;

Corners box_at(const Box& b, const Similarity2& pose) {
  return {pose * Point2{b.x, b.y}, pose * Point2{b.x + b.width, b.y},
          pose * Point2{b.x + b.width, b.y + b.height}, pose * Point2{b.x, b.y + b.height}};
}

double area_of(const std::vector<Point2>& polygon) {
  double twice = 0;
  for (size_t i = 0; i < polygon.size(); ++i) twice += cross(polygon[i], polygon[(i + 1) % polygon.size()]);
  return 0.5 * std::abs(twice);
}

/// Area of two convex quadrangles in common (Sutherland, Hodgman, Reentrant polygon clipping, CACM 17, 1974).
double common_area(const Corners& a, const Corners& b) {
  std::vector<Point2> left(a.begin(), a.end());
  for (size_t i = 0; i < 4 && !left.empty(); ++i) {
    const Point2 from = b[i], along = b[(i + 1) % 4] - from;
    std::vector<Point2> next;
    for (size_t k = 0; k < left.size(); ++k) {
      const Point2 p = left[k], q = left[(k + 1) % left.size()];
      const double dp = cross(along, p - from), dq = cross(along, q - from);
      if (dp >= 0) next.push_back(p);
      if ((dp < 0) != (dq < 0)) next.push_back(p + (q - p) * (dp / (dp - dq)));
    }
    left = std::move(next);
  }
  return left.size() < 3 ? 0 : area_of(left);
}

}  // namespace

double overlap(const Box& extent, const Similarity2& a, const Similarity2& b) {
  const double smaller = extent.width * extent.height * std::min(a.scale * a.scale, b.scale * b.scale);
  return smaller > 0 ? common_area(box_at(extent, a), box_at(extent, b)) / smaller : 0;
}

}  // namespace heron
