#pragma once
#include "heron/image/image.hpp"

namespace heron {

/// 255 where the picture is clearly darker (or brighter) than the mean of the `window`-wide square around.
Image<uint8_t> darker_than_around(const ImageView<const uint8_t>& picture, int window, bool bright);

}  // namespace heron
