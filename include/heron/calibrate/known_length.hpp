#pragma once
#include "heron/geometry/camera_mapping.hpp"

namespace heron {

/// A length that is known, with the pixels of its ends.
struct KnownLength {
  Point2 from, to;
  double length_mm = 0;
  double sigma_px = 0.5;  ///< of each coordinate of each end
  double sigma_length_mm = 0;
};

/// Millimetres per pixel from one known length on the work plane, for a camera square to it. The world's zero
/// is the middle of the picture, X to the right, Y up. Throws Error when the length is not above 0 or its
/// ends coincide.
PlaneMapping mapping_of_length(const KnownLength& length, int width, int height);

/// Focal length from a known width, seen at a known distance along the optical axis: then the camera is known
/// (no distortion, principal point in the middle of the picture with a sigma of 2% of its width), square over
/// a work plane at that distance. Throws Error when width or distance is not above 0 or the ends coincide.
CameraMapping camera_of_length_at(const KnownLength& length, double distance_mm, double sigma_distance_mm,
                                  int width, int height);

}  // namespace heron
