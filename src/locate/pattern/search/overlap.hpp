#pragma once
#include "heron/base/pose.hpp"
#include "heron/image/region.hpp"

namespace heron {

/// A part's box as it lies in the picture. `extent` is the box in the target's own frame.
struct Footprint {
  Footprint(const Box& extent, const Similarity2& pose);
  Point2 middle, along, down;  ///< from the middle half the box's width and half its height
  double area;
};

/// How much of the smaller of two parts the other covers, by their boxes: 0 to 1. Cost: some hundredths of a
/// microsecond.
double overlap(const Footprint& a, const Footprint& b);

}  // namespace heron
