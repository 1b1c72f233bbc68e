#pragma once
#include <optional>
#include <vector>

#include "heron/base/pose3.hpp"
#include "heron/geometry/camera_model.hpp"

namespace heron {

/// Where something flat of known shape stands in front of a camera.
struct FlatPose {
  Pose3 camera_from_part;
  /// Of a small turn about the part's origin (radians) and a shift (mm), both along the camera's axes.
  Eigen::Matrix<double, 6, 6> covariance;
  double rms_px = 0;    ///< reprojection error
  double other_px = 0;  ///< what the mirrored tilt would leave, which a distant view cannot tell apart
};

/// The pose that puts points of a part's plane (millimetres, z = 0) where they are seen through a known lens:
/// a homography to start with, then least squares on the pixels from both tilts that a distant view cannot
/// tell apart (Oberkampf, DeMenthon, Davis, Iterative pose estimation using coplanar feature points, 1996);
/// the likelier is returned. `sigma_px` is that of one coordinate of one pixel. Nothing for less than four
/// points, for points near one line, or where the lens has no ray.
std::optional<FlatPose> flat_pose(const Lens& lens, const std::vector<Point2>& part_mm,
                                  const std::vector<Point2>& pixels, double sigma_px);

}  // namespace heron
