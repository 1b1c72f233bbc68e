#pragma once
#include <vector>

#include "heron/feature/ring_mark.hpp"

namespace heron {

/// Ring marks as seen: the rim as fitted, X axis as a solid arrow, Y axis dashed, identity and score in
/// words.
Image<Rgb> draw_rings(const ImageView<const uint8_t>& picture, const std::vector<RingSeen>& rings);

}  // namespace heron
