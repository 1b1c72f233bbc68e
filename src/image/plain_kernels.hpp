#pragma once
#include "heron/image/color_space.hpp"
#include "heron/image/gradient.hpp"
#include "heron/image/remap.hpp"

// The arithmetic of the kernels without vector instructions; tests compare each kernel with its own, bit for
// bit.

namespace heron {

Image<float> smooth_plain(const ImageView<const float>& picture, double sigma);

Image<uint8_t> halve_plain(const ImageView<const uint8_t>& picture);

Image<uint8_t> color_mask_plain(const ImageView<const Rgb>& picture, const ColorRange& range,
                                const std::array<double, 3>& gains = {1, 1, 1});

Gradients gradients_plain(const ImageView<const uint8_t>& picture);
Image<uint8_t> remap_plain(const Remap& remap, const ImageView<const uint8_t>& source);

}  // namespace heron
