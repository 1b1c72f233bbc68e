#pragma once
#include "heron/image/image.hpp"

namespace heron {

/// Gaussian smoothing with `sigma` pixels (0 copies). The kernel is cut at 4 sigma and sums to one; beyond
/// the border the nearest pixel is repeated. Throws Error{invalid_argument} when sigma is negative, not
/// finite or above 100. Cost: two passes of 8 sigma + 1 products a pixel.
Image<float> smooth(const ImageView<const float>& picture, double sigma);
Image<float> smooth(const ImageView<const uint8_t>& picture, double sigma);

}  // namespace heron
