#pragma once
#include "heron/image/image.hpp"

namespace heron {

/// A height map as a picture of 8 bit, for finding parts by their relief.
struct Relief {
  Image<uint8_t> pixels;  ///< 128 and the height above its surroundings in steps, kept within 0..255;
                          ///< holes are bridged along their row
  Image<uint8_t> valid;   ///< 255 where a height was measured, else 0
};

/// Heights in millimetres, NaN where nothing was measured, less their own Gaussian mean over the measured
/// pixels nearby (sigma 12 pixels): a part looks the same on the table and on a stack, and on a table that
/// leans. One grey level is `step_mm`. Throws Error{invalid_argument} for a step that is not above 0. Cost:
/// four smoothing passes.
Relief relief_of(const ImageView<const float>& heights, double step_mm);

/// A step in which the relief around a part fills about two thirds of the grey levels: a hundredth of the
/// middle 96 % of the differences from the surroundings inside `box_mask` (255 inside).
double relief_step(const ImageView<const float>& heights, const ImageView<const uint8_t>& box_mask);

}  // namespace heron
