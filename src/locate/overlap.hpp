#pragma once
#include "heron/base/pose.hpp"
#include "heron/image/region.hpp"

namespace heron {

/// How much of the smaller of two parts the other covers, by their boxes: 0 to 1. `extent` is the box in the
/// target's own frame. Cost: some tenths of a microsecond.
double overlap(const Box& extent, const Similarity2& a, const Similarity2& b);

}  // namespace heron
