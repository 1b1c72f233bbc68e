#pragma once
#include "heron/image/components.hpp"
#include "heron/locate/detection.hpp"

namespace heron {

/// A region with its holes filled.
struct Blob {
  Component shape;             ///< of all of it, picture coordinates; border pixels count by their share
  double color_area = 0;       ///< pixels that have the color
  double pixels = 0;           ///< and that it holds
  Point2 spread;               ///< sum over border pixels of (distance from the centroid along x, y) squared
  double contrast = 0;         ///< from the color outside to that inside, along its border
  double uneven = 0;           ///< mean square of what colors beside the border differ by in eight pixels
  double uneven_by_noise = 0;  ///< and what noise of variance 1 makes of that
  Contour outline;
};

/// The region `c` of a mask, with what it encloses where `fill` says so.
Blob blob_of(const ImageView<const Rgb>& picture, const Image<uint8_t>& mask, const Component& c, bool fill);

/// Its centroid, long axis, sizes and sigmas; `noise` is the picture's, grey levels.
Detection detection_of(const Blob& blob, const std::string& name, double noise);

}  // namespace heron
