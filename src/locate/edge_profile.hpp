#pragma once
#include <array>

#include "heron/image/sample.hpp"
#include "locate/meet_edges.hpp"

namespace heron {

/// An edge met along a short scan across the place where it is expected.
struct EdgeMet {
  bool met = false;
  double offset = 0;    ///< along the normal, pixels
  double contrast = 0;  ///< grey levels over two pixels
  double cosine = 0;    ///< of the angle between the gradient there and the normal
};

/// The strongest rise of brightness along `normal` within `reach` pixels of `place` (1 to 6). Nearer rises
/// are preferred a little, so that a strong neighbour does not draw a weaker edge away. Sub-pixel by a
/// parabola through the logarithm of the derivative. `falling`: the strongest fall instead. Teaching and
/// finding use this same measurement, so its small bias cancels. A scan that leaves the picture meets
/// nothing.
inline EdgeMet meet_edge(const ImageView<const uint8_t>& picture, Point2 place, Point2 normal, int reach,
                         double least_contrast, bool falling = false) {
  EdgeMet result;
  const double far = reach + 1;
  const double reach_x = far * std::abs(normal.x) + 1,
               reach_y = far * std::abs(normal.y) + 1;  // one more for the look along the edge
  if (!(place.x >= reach_x && place.y >= reach_y && place.x + reach_x < picture.width() - 1 &&
        place.y + reach_y < picture.height() - 1))
    return result;
  std::array<double, 15> v{};
  for (int k = -reach - 1; k <= reach + 1; ++k)
    v[static_cast<size_t>(k + reach + 1)] =
        bilinear_inside(picture, place.x + k * normal.x, place.y + k * normal.y);
  const auto rise = [&](int k) {
    const double up = v[static_cast<size_t>(k + reach + 2)] - v[static_cast<size_t>(k + reach)];
    return falling ? -up : up;
  };
  int best = 0;
  double best_value = -1e9;
  const double fall = 0.35 / (far * far);
  for (int k = -reach; k <= reach; ++k) {
    const double value = rise(k) * (1 - fall * k * k);
    if (value > best_value) best_value = value, best = k;
  }
  result.contrast = rise(best);
  if (result.contrast < least_contrast || result.contrast <= 0) return result;
  double sub = 0;
  if (best > -reach && best < reach) {
    const double before = rise(best - 1), here = rise(best), after = rise(best + 1);
    // The derivative of a blurred step is close to a Gaussian, whose logarithm is a parabola.
    const double floor = 0.02 * here, a = std::log(std::max(before, floor)), b = std::log(here),
                 c = std::log(std::max(after, floor));
    const double bend = a - 2 * b + c;
    if (bend < 0) sub = std::clamp(0.5 * (a - c) / bend, -0.5, 0.5);
  }
  result.offset = best + sub;
  const Point2 at = place + normal * result.offset, tangent{-normal.y, normal.x};
  const double across = bilinear_inside(picture, at.x + tangent.x, at.y + tangent.y) -
                        bilinear_inside(picture, at.x - tangent.x, at.y - tangent.y);
  result.cosine = result.contrast / std::hypot(result.contrast, across);
  result.met = true;
  return result;
}

}  // namespace heron
