#pragma once
#include <array>

#include "heron/image/sample.hpp"
#include "locate/edge_samples/sample_edges.hpp"

namespace heron {

/// An edge met along a short scan across the place where it is expected.
struct EdgeMet {
  bool met = false;
  double offset = 0;    ///< along the normal, pixels
  double contrast = 0;  ///< grey levels over two pixels
  double cosine = 0;    ///< of the angle between the gradient there and the normal
};

struct Rising {
  double offset = 0, contrast = 0;  ///< pixels; grey levels over two pixels
};
using ProfileValues = std::array<double, 15>;  ///< the first 2 `reach` + 3 of them

/// The strongest rise along grey values read one pixel apart, from `reach + 1` before the place where it is
/// expected to as far beyond. Nearer rises are preferred a little, so that a strong neighbour does not draw a
/// weaker edge away. Sub-pixel by a parabola through the logarithm of the derivative; at either end
/// of the reach it is a whole pixel.
inline Rising strongest_rise(const ProfileValues& v, int reach, bool falling = false) {
  const auto rise = [&](int k) {
    const double up = v[static_cast<size_t>(k + reach + 2)] - v[static_cast<size_t>(k + reach)];
    return falling ? -up : up;
  };
  int best = 0;
  double best_value = -1e9;
  const double fall = 0.35 / ((reach + 1.0) * (reach + 1.0));
  for (int k = -reach; k <= reach; ++k) {
    const double value = rise(k) * (1 - fall * k * k);
    if (value > best_value) best_value = value, best = k;
  }
  if (rise(best) <= 0) return {};
  double sub = 0;
  if (best > -reach && best < reach) {
    const double before = rise(best - 1), here = rise(best), after = rise(best + 1);
    // The derivative of a blurred step is close to a Gaussian, whose logarithm is a parabola.
    const double floor = 0.02 * here, a = std::log(std::max(before, floor)), b = std::log(here),
                 c = std::log(std::max(after, floor));
    const double bend = a - 2 * b + c;
    if (bend < 0) sub = std::clamp(0.5 * (a - c) / bend, -0.5, 0.5);
  }
  return {best + sub, rise(best)};
}

/// The strongest rise of brightness along `normal` within `reach` pixels of `place` (1 to 6); `falling`: the
/// strongest fall instead. A scan that leaves the picture meets nothing.
inline EdgeMet meet_edge(const ImageView<const uint8_t>& picture, Point2 place, Point2 normal, int reach,
                         double min_contrast, bool falling = false) {
  EdgeMet result;
  const double far = reach + 1;
  const double reach_x = far * std::abs(normal.x) + 1,
               reach_y = far * std::abs(normal.y) + 1;  // one more for the look along the edge
  if (!(place.x >= reach_x && place.y >= reach_y && place.x + reach_x < picture.width() - 1 &&
        place.y + reach_y < picture.height() - 1))
    return result;
  ProfileValues v{};
  for (int k = -reach - 1; k <= reach + 1; ++k)
    v[static_cast<size_t>(k + reach + 1)] =
        bilinear_inside(picture, place.x + k * normal.x, place.y + k * normal.y);
  const Rising rising = strongest_rise(v, reach, falling);
  result.contrast = rising.contrast;
  if (result.contrast < min_contrast || result.contrast <= 0) return result;
  result.offset = rising.offset;
  const Point2 at = place + normal * result.offset, tangent{-normal.y, normal.x};
  const double across = bilinear_inside(picture, at.x + tangent.x, at.y + tangent.y) -
                        bilinear_inside(picture, at.x - tangent.x, at.y - tangent.y);
  result.cosine = result.contrast / std::hypot(result.contrast, across);
  result.met = true;
  return result;
}

}  // namespace heron
