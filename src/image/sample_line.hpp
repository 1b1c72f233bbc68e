#pragma once
#include <vector>

#include "heron/base/point.hpp"
#include "heron/image/image.hpp"

namespace heron {

/// Adds the bilinear brightness at `start` and every `step` on to each of the sums. The caller has asked
/// `can_sample_inside` for the first place and the last.
void add_samples(const Image<uint8_t>& picture, Point2 start, Point2 step, std::vector<float>& sums);

}  // namespace heron
