#pragma once
#include "heron/locate/color.hpp"

namespace heron {

/// The color learned from a sample.
struct LearnedColor {
  ColorSeparation chosen;
  std::vector<ColorSeparation> all;  ///< every space of color, or grey alone where that was asked for
  double own_share = 1;              ///< share of the sample that is of the color learned
  double clipped = 0;                ///< share of it with a channel at 0 or 255
  double spread = 0;                 ///< of its chroma, per cent of full
};

using Colors = std::vector<std::array<double, 3>>;

/// Ranges in each space that hold the sample's main color under `light`, times its own, and
/// noise of `noise` grey levels, and how each keeps `others` out. `certain`: the others are known not to be
/// meant. In grey, the end of the range towards the others lies between, the other end is open where none
/// lies beyond it. Throws Error{invalid_argument} for a sample without color (but in grey), or one that is
/// like what is not meant.
LearnedColor learn_color(const Colors& sample, const Colors& others, bool certain, double noise,
                         Range<double> light, const std::optional<ColorSpace>& space);

}  // namespace heron
