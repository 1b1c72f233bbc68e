#pragma once
#include <functional>
#include <vector>

#include "heron/image/image.hpp"

namespace heron {

/// The colors on both sides of a region's border.
struct BorderColors {
  double contrast = 0;         ///< mean difference of the two sides
  double uneven = 0;           ///< mean square of what colors eight pixels apart beside the border differ by
  double uneven_by_noise = 0;  ///< and what noise of variance 1 makes of that; both of the two sides together
};

/// Takes the shares of a row of pixels from (left, y) of the picture on, about 0 to 1; noise takes them
/// beyond, and cut off there it would not average out.
using TakeShares = std::function<void(int left, int y, const std::vector<float>& shares)>;

/// How much of each pixel belongs to a region of a color, row by row: by where its color lies between those
/// on either side nearby. A range alone cuts a blurred border off somewhere else than in its middle. The
/// first pixel of `region` (0 is outside; its edge pixels are) lies at (left, top) of the picture. Memory:
/// seven bytes a pixel of the region's box at the most.
BorderColors border_shares(const ImageView<const Rgb>& picture, const Image<uint8_t>& region, int left,
                           int top, const TakeShares& take);

}  // namespace heron
