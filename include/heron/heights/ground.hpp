#pragma once
#include <string>

#include "heron/base/range.hpp"
#include "heron/image/image.hpp"
#include "heron/image/region.hpp"

namespace heron {

/// The table's plane in a height map: height = offset + slope * (distance from the map's middle).
struct GroundPlane {
  double offset_mm = 0;       ///< height at the middle of the map
  Point2 slope;               ///< millimetres of height a millimetre, along the picture's x and y
  Point2 pitch_mm{1, 1};      ///< of the map it was found in: millimetres a pixel in x and y
  int width = 0, height = 0;  ///< of that map, in pixels

  double sigma_mm = 0;  ///< scatter of the ground's places about the plane
  double share = 0;     ///< of the measured places that lie on the ground, 0 to 1
  Angle sigma_tilt;     ///< standard uncertainty of the tilt

  Angle tilt() const { return radians(std::atan(norm(slope))); }
  /// Height of the plane at a picture coordinate.
  double at(double x, double y) const {
    return offset_mm + slope.x * (x - 0.5 * (width - 1)) * pitch_mm.x +
           slope.y * (y - 0.5 * (height - 1)) * pitch_mm.y;
  }
};

/// The ground, or the reason why there is none.
struct GroundFound {
  bool found = false;
  std::string reason;
  GroundPlane plane;
};

/// The plane that the parts stand on: of planes through triples of places (Fischler, Bolles, Random sample
/// consensus, CACM 24, 1981) the one with most places on it and hardly any below, since parts stand on a
/// table and nothing lies under it; then least squares with Tukey weights on all places near it. Holes (NaN)
/// are left out. `region`: where to look; an empty one means everywhere. Same input, same result. Cost: some
/// passes over the map.
///
/// Throws Error{invalid_argument} for a pitch that is not above 0 or a region outside the map. Not found when
/// fewer than 100 places were measured, or when no plane holds a tenth of them.
GroundFound find_ground(const ImageView<const float>& map, Point2 pitch_mm, const Region& region = {});

/// Heights above the plane; holes stay. Throws Error{invalid_argument} for a map of another size than the
/// plane's.
Image<float> leveled(const ImageView<const float>& map, const GroundPlane& plane);

/// 255 where a height lies in the band, ends included; holes are 0.
Image<uint8_t> height_band(const ImageView<const float>& map, const Range<double>& band_mm);

}  // namespace heron
