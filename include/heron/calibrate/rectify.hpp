#pragma once
#include "heron/geometry/mapping.hpp"
#include "heron/image/remap.hpp"

namespace heron {

/// A picture without the lens' distortion, of the same size and with the same focal length and principal
/// point: straight edges become straight lines.
Remap undistorted(const Lens& lens, int width, int height, uint8_t outside = 0);

/// A rectangle of the world as seen straight from above.
struct WorldWindow {
  Point2 corner_mm;  ///< smallest X and Y
  double width_mm = 0, height_mm = 0;
  double mm_per_pixel = 0;
  double above_mm = 0;  ///< of the plane that is rectified
};

/// The view of that rectangle: X to the right, Y up; pixel (0, 0) shows the corner with the smallest X and
/// the largest Y. Throws Error{invalid_argument} for a window without area or with more than 32767 pixels a
/// side.
Remap rectified(const Mapping& mapping, const WorldWindow& window, int source_width, int source_height,
                uint8_t outside = 0);

}  // namespace heron
