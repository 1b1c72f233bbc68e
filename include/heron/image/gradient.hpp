#pragma once
#include "heron/image/image.hpp"

namespace heron {

/// Direction and size of the brightness gradient at every pixel, one byte each.
struct Gradients {
  Image<uint8_t> direction;  ///< from dark to bright, 256 steps a turn, 0 = +x, 64 = +y (down)
  Image<uint8_t> size;       ///< grey levels over two pixels (central difference), 255 at most
};

/// Central differences, smoothed (1 2 1) / 4 across. The border of one pixel has size 0.
/// Directions are right to one step. Cost: one pass.
Gradients gradients(const ImageView<const uint8_t>& picture);

}  // namespace heron
