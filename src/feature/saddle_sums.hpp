#pragma once
#include "heron/image/image.hpp"

namespace heron {

/// Sums over a disc of w g g' and of w g g' d, with g the gradient, d the place counted from (x, y), and
/// w = (1 - (d / radius)^2)^2: the equations of the crossing of all edges' lines.
struct SaddleSums {
  float xx = 0, xy = 0, yy = 0, bx = 0, by = 0;
};

/// The disc and a pixel around it must lie within the picture.
SaddleSums saddle_sums(const ImageView<const uint8_t>& picture, float x, float y, float radius);
/// The same without vector instructions; sums differ by rounding alone.
SaddleSums saddle_sums_plain(const ImageView<const uint8_t>& picture, float x, float y, float radius);

}  // namespace heron
