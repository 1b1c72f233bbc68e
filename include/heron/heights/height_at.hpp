#pragma once
#include <optional>

#include "heron/base/angle.hpp"
#include "heron/base/point.hpp"
#include "heron/image/image.hpp"

namespace heron {

/// How high, and how level, a map is about a place.
struct HeightAt {
  double height_mm = 0;
  double sigma_mm = 0;  ///< by the scatter of the heights; not what the sensor has wrong everywhere
  Angle tilt;           ///< of the surface there against the map's zero; 0 to 90 degrees
  Angle sigma_tilt;
  double share = 0;  ///< of the disc that was measured and lies on that surface, 0 to 1
};

/// The surface within `radius_px` of a place: a plane by least squares with Tukey weights, which begins at
/// the median height, so that the smaller part of a disc that reaches past an edge does not count.
/// `pitch_mm`: millimetres a pixel, the same along x and y. Nothing when fewer than six heights lie on it, or
/// all in a line. Throws Error{invalid_argument} for a radius or a pitch that is not above 0, or a place that
/// is not finite. Cost: ten passes over the disc.
std::optional<HeightAt> height_at(const ImageView<const float>& map, Point2 place, double radius_px,
                                  double pitch_mm);

}  // namespace heron
