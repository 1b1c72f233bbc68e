#pragma once
#include <vector>

#include "heron/image/image.hpp"

namespace heron {

/// One connected set of pixels of a mask (8-neighbourhood).
struct Component {
  double area = 0;                               ///< pixels
  double x = 0, y = 0;                           ///< centroid
  double xx = 0, xy = 0, yy = 0;                 ///< central second moments, divided by the area
  int left = 0, top = 0, right = 0, bottom = 0;  ///< box, last pixel included
};

/// Every connected set of non-zero pixels, in the order of its first pixel in reading order.
/// Runs of a row are joined by union-find; one pass over the picture, memory for the runs alone.
std::vector<Component> components(const ImageView<const uint8_t>& mask);

}  // namespace heron
