#pragma once
#include "heron/image/image.hpp"

namespace heron {

/// How much of each pixel belongs to a region of a color: by where its color lies between those on either
/// side nearby. A range alone cuts a blurred border off somewhere else than in its middle.
struct BorderShares {
  Image<float> share;     ///< about 0 to 1; noise takes it beyond, and cut off there it would not average out
  int left = 0, top = 0;  ///< of the share's first pixel, in the picture
  double contrast = 0;    ///< mean difference of the colors on both sides
  double uneven = 0;      ///< mean square of what colors eight pixels apart beside the border differ by
  double uneven_by_noise = 0;  ///< and what noise of variance 1 makes of that; both of the two sides together
};

/// Of `region` (0 is outside; its edge pixels are), whose first pixel lies at (left, top) of the picture.
BorderShares border_shares(const ImageView<const Rgb>& picture, const Image<uint8_t>& region, int left,
                           int top);

}  // namespace heron
