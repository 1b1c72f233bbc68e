#pragma once
#include <array>

#include "heron/base/pose.hpp"
#include "heron/image/region.hpp"

namespace heron {

/// A part's box as it lies in the picture. `extent` is the box in the target's own frame.
struct Footprint {
  Footprint(const Box& extent, const Similarity2& pose);
  std::array<Point2, 4> corners;
  double area;
};

/// How much of the smaller of two parts the other covers, by their boxes: 0 to 1. Cost: some tenths of a
/// microsecond.
double overlap(const Footprint& a, const Footprint& b);

}  // namespace heron
