#include "overlap.hpp"

#include <algorithm>
#include <array>
#include <cmath>

namespace heron {
namespace {

/// The integral of y, cut off at -1 and 1, over x from -1 to 1 along the way from `a` to `b`.
double below(Point2 a, Point2 b) {
  const auto cut = [](double v) { return std::clamp(v, -1.0, 1.0); };
  const double from = cut(a.x), to = cut(b.x);
  if (std::abs(to - from) < 1e-12) return 0;  // too steep for a slope
  const double slope = (b.y - a.y) / (b.x - a.x), first = a.y + slope * (from - a.x),
               last = a.y + slope * (to - a.x), rise = last - first;
  // Of what is cut off, integrated over y.
  const auto squares = [&](double y) { return std::abs(y) < 1 ? 0.5 * y * y : std::abs(y) - 0.5; };
  const double mean = std::abs(rise) > 1e-6 ? (squares(last) - squares(first)) / rise : cut(first);
  return mean * (to - from);
}

/// Area of two boxes in common: in the frame in which the first reaches from -1 to 1, what lies between the
/// second's sides and the first.
double common_area(const Footprint& a, const Footprint& b) {
  const Point2 x = a.along * (1 / dot(a.along, a.along)), y = a.down * (1 / dot(a.down, a.down));
  const auto seen = [&](Point2 v) { return Point2{dot(v, x), dot(v, y)}; };
  const Point2 middle = seen(b.middle - a.middle), along = seen(b.along), down = seen(b.down);
  const std::array<Point2, 4> corners{middle + along + down, middle - along + down, middle - along - down,
                                      middle + along - down};
  double sum = 0;
  for (size_t i = 0; i < 4; ++i) sum += below(corners[i], corners[(i + 1) % 4]);
  return 0.25 * std::abs(sum) * a.area;
}

}  // namespace

Footprint::Footprint(const Box& box, const Similarity2& pose)
    : area(box.width * box.height * pose.scale * pose.scale) {
  const Point2 right = Point2{cos(pose.angle), sin(pose.angle)} * pose.scale, under{-right.y, right.x};
  along = right * (0.5 * box.width), down = under * (0.5 * box.height);
  middle = pose.position() + right * (box.x + 0.5 * box.width) + under * (box.y + 0.5 * box.height);
}

double overlap(const Footprint& a, const Footprint& b) {
  const auto square = [](Point2 v) { return dot(v, v); };
  // Apart by more than half of both diagonals; its square is no more than the sum of squares doubled.
  if (square(a.middle - b.middle) > 2 * (square(a.along) + square(a.down) + square(b.along) + square(b.down)))
    return 0;
  const double smaller = std::min(a.area, b.area);
  return smaller > 0 ? common_area(a, b) / smaller : 0;
}

}  // namespace heron
