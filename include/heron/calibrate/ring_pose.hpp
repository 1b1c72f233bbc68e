#pragma once
#include <vector>

#include "heron/base/pose3.hpp"
#include "heron/feature/ring_mark.hpp"
#include "heron/geometry/camera_mapping.hpp"

namespace heron {

/// Where a ring mark of known size may lie in space.
struct RingPose {
  Pose3 camera_from_ring;
  /// Of a small turn about the mark's centre (radians) and a shift (mm), both along the camera's axes; holds
  /// what the lens is worth.
  Eigen::Matrix<double, 6, 6> covariance;
  Angle tilt;             ///< between the mark's normal and the ray to it
  double chi_square = 0;  ///< sum of squares left, in sigmas; two degrees of freedom
};

/// The pose of a mark of `diameter_mm` seen through a known lens: least squares on its projection, weighed by
/// its covariance, from both tilts that a distant view cannot tell apart (Oberkampf, DeMenthon, Davis,
/// Iterative pose estimation using coplanar feature points, 1996). The likelier comes first; the other
/// follows when it explains the mark nearly as well (chi_square larger by less than 12), as it does where the
/// mark is small or nearly frontal. The pose of `lens` in the world is not used. Throws
/// Error{invalid_argument} for a diameter that is not above 0, Error{not_determined} where the lens has no
/// ray.
std::vector<RingPose> ring_poses(const RingSeen& seen, const CameraMapping& lens, double diameter_mm);

/// The mark's rim at its X axis, Y axis and opposite them, in pixels: x, y of one after the other; and their
/// covariance. Eight numbers that say as much as its homography. With a lens that distorts, the rim as a
/// homography fits it best is not where the rim is: given `lens`, that is put right.
using RimVector = Eigen::Matrix<double, 8, 1>;
using RimCovariance = Eigen::Matrix<double, 8, 8>;
RimVector rim_of(const RingSeen& seen, RimCovariance& covariance, const Lens* lens);

}  // namespace heron
