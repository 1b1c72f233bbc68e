#pragma once
#include "heron/image/image.hpp"

namespace heron {

/// Standard deviation of a picture's noise in grey levels, estimated from itself: median of a Laplacian that
/// flat and straight structure does not answer to (Immerkaer, Fast noise variance estimation, CVIU 64, 1996).
/// Fine texture counts as noise. 0 for pictures smaller than 3 x 3. Cost: at most 128 rows are read.
double noise_sigma(const ImageView<const uint8_t>& picture);

}  // namespace heron
