#pragma once
#include <span>
#include <vector>

#include "heron/base/point.hpp"
#include "heron/image/image.hpp"

namespace heron {

/// Adds the bilinear brightness at `start` and every `step` on to each of the sums. The caller has asked
/// `can_sample_inside` for the first place and the last.
void add_samples(const Image<uint8_t>& picture, Point2 start, Point2 step, std::vector<float>& sums);

/// A bilinear reading is a mean of four pixels about its place. Adds the third moment of that mean along the
/// step, in steps cubed, at `start` and every `step` on, to each of the sums: two neighbours with the weights
/// 1 - f and f have f (1 - f) (1 - 2 f) on either axis.
void add_reading_skew(Point2 start, Point2 step, std::span<float> sums);

}  // namespace heron
