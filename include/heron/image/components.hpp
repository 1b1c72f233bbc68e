#pragma once
#include <vector>

#include "heron/base/point.hpp"
#include "heron/image/image.hpp"

namespace heron {

/// One connected set of pixels of a mask (8-neighbourhood).
struct Component {
  double area = 0;                               ///< pixels
  double x = 0, y = 0;                           ///< centroid
  double xx = 0, xy = 0, yy = 0;                 ///< central second moments, divided by the area
  int left = 0, top = 0, right = 0, bottom = 0;  ///< box, last pixel included
  int first_x = 0;                               ///< its first pixel in the row `top`
};

/// Every connected set of non-zero pixels, in the order of its first pixel in reading order.
/// Runs of a row are joined by union-find; one pass over the picture, memory for two rows' runs and the sums.
std::vector<Component> components(const ImageView<const uint8_t>& mask);

/// One component alone, 255 in a picture of its box with a border of one pixel: pixel (x, y) of the mask is
/// (x - left + 1, y - top + 1) here. Cost: its box.
Image<uint8_t> component_alone(const ImageView<const uint8_t>& mask, const Component& component);

/// Sets what no path of clear pixels (4-neighbourhood) joins to the border; returns how many pixels that
/// were.
int64_t fill_holes(Image<uint8_t>& mask);

/// The borders of a mask's set pixels, along the pixels' edges, each a closed line that keeps the set pixels
/// on its right (clockwise as seen around a region, the other way round a hole); corners only. Cost: the
/// mask.
std::vector<std::vector<Point2>> border_lines(const ImageView<const uint8_t>& mask);

}  // namespace heron
