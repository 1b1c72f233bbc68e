#pragma once
#include <vector>

#include "heron/base/point.hpp"
#include "heron/image/image.hpp"

namespace heron {

/// Halves a picture: each pixel is the rounded mean of a 2 x 2 block; an odd last row or column is left out.
/// Cost: one pass. The result is (width / 2) x (height / 2) and may be empty.
Image<uint8_t> halve(const ImageView<const uint8_t>& picture);

/// Where the picture coordinate `p` of level 0 lies in the coordinates of `level`, and back.
/// Halving shifts the grid by half a pixel: pixel 0 of level 1 covers pixels 0 and 1 of level 0.
inline Point2 to_level(Point2 p, int level) {
  const double f = std::ldexp(1.0, -level);
  return {(p.x + 0.5) * f - 0.5, (p.y + 0.5) * f - 0.5};
}
inline Point2 from_level(Point2 p, int level) {
  const double f = std::ldexp(1.0, level);
  return {(p.x + 0.5) * f - 0.5, (p.y + 0.5) * f - 0.5};
}

}  // namespace heron
