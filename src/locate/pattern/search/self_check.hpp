#pragma once
#include "locate/pattern/model/pattern_model.hpp"

namespace heron {

/// Whether fits on the target's coarsest level bring its own taught picture home from one step of the
/// search's grid off, in place and in angle, wherever it lies between the pixels of that level: neighbours of
/// a hit are left out on the promise that it will. Fine structure, the teeth of a gear, lets a fit run into
/// the next tooth instead. Cost: some passes over the taught pixels, and some dozens of fits with few edges.
bool finds_home(const PatternModel& target, const Image<uint8_t>& filled, const Image<uint8_t>& mask);

/// The picture with `margin` more pixels on all sides, filled from the nearest ones; so is what `mask` leaves
/// out.
Image<uint8_t> with_margin(const Image<uint8_t>& picture, const Image<uint8_t>& mask, int margin);

}  // namespace heron
