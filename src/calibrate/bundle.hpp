#pragma once
#include <Eigen/Core>
#include <vector>

#include "heron/base/pose3.hpp"
#include "heron/calibrate/lens.hpp"

namespace heron {

/// A board point in one view, for the adjustment.
struct Observation {
  Point2 pixel;
  Eigen::Vector3d board;  ///< on the board, mm
  Point2 bias{};          ///< what a slanted dot's centre lies beside the projected centre
  bool used = true;
};

struct ObservedView {
  Pose3 camera_from_board;
  std::vector<Observation> points;
  double radius_mm = 0;  ///< of a dot
};

/// Lens and poses, with the covariance of the lens and the normal equations' blocks from which that of a pose
/// follows.
struct Bundle {
  Lens lens;
  std::vector<ObservedView> views;
  std::vector<int> free;  ///< lens parameters that are estimated, in the order of LensVector

  double sum_of_squares = 0;
  int residuals = 0, unknowns = 0;
  bool determined = false;
  Eigen::Matrix<double, 9, 9> lens_covariance = Eigen::Matrix<double, 9, 9>::Zero();  ///< for unit noise

  double variance() const { return residuals > unknowns ? sum_of_squares / (residuals - unknowns) : 0; }
};

/// Minimises the reprojection error of all used points; poses and free lens parameters are changed in place.
void adjust(Bundle& bundle);

/// Covariance of lens and pose of one view together (order of CameraMapping), for unit noise.
CameraMapping::Covariance covariance_with_pose(const Bundle& bundle, size_t view);

Point2 residual_of(const Lens& lens, const ObservedView& view, const Observation& point);

/// The pose of a plane whose homography is `pixel_from_board`, for a lens without distortion.
Pose3 pose_from_homography(const Lens& lens, const Homography& pixel_from_board);

/// Homography from board points to undistorted pixels; nothing when they do not fix it.
std::optional<Homography> undistorted_homography(const Lens& lens, const std::vector<Observation>& points);

/// Sets each dot's bias for the present lens and pose.
void correct_dots(Bundle& bundle);

}  // namespace heron
