#pragma once
#include <string>
#include <vector>

#include "heron/base/pose3.hpp"
#include "heron/calibrate/plane.hpp"
#include "heron/geometry/camera_mapping.hpp"

namespace heron {

/// One picture's board.
struct BoardView {
  std::string name;
  std::vector<BoardPoint> points;
  double dot_radius_px = 0;  ///< median of its dots, 0 for corners
  bool placed =
      true;  ///< the points' numbers count from the board's own zero; false for a part of it without a mark
};

/// What a calibration made of one view.
struct ViewFit {
  Pose3 camera_from_board;
  double rms_px = 0;
  Angle tilt;  ///< between the optical axis and the board's normal
  bool used = true;
  std::string reason;  ///< why it was left out
};

struct LensOptions {
  int plane_view = 0;  ///< the view whose board lies on the work plane: its frame becomes the world
};

/// A camera's lens with its covariance.
struct LensCalibration {
  CameraMapping mapping{CameraModel{}};  ///< the lens, and the plane of `plane_view`, with their covariance
  bool k3_free = false;               ///< k3 was estimated; otherwise the data do not support it and it is 0
  double rms_px = 0, sigma_px = 0;    ///< as in PlaneCalibration
  double largest_px = 0;              ///< largest residual
  std::vector<ViewFit> views;         ///< as given
  std::vector<MappedPoint> points;    ///< of the views used
  std::vector<std::string> left_out;  ///< rejected points as text, one entry a view
  std::vector<std::string> advice;    ///< which views are missing
};

/// Lens and board poses from several views of one board: closed-form start (Zhang, A flexible new technique
/// for camera calibration, PAMI 22, 2000), then Levenberg-Marquardt on the reprojection error of all views
/// together, with the poses eliminated by the Schur complement (Triggs et al., Bundle adjustment - a modern
/// synthesis, 2000). Views that do not fit the others, and points further off than five sigma, are left out
/// and named. k3 is estimated only when the data make that more probable than k3 = 0; otherwise it is 0, and
/// the covariance holds what it may be all the same. Cost: some twenty passes over all points.
///
/// Throws Error{not_determined} with fewer than 3 usable views, or when the board is never tilted, so that
/// focal length and distance cannot be separated.
LensCalibration calibrate_lens(const std::vector<BoardView>& views, const BoardShape& shape, int width,
                               int height, const LensOptions& options = {});

/// The plane of one board picture for a lens that is known: its pose, with the lens' covariance carried
/// along. `lens` gives lens parameters and their covariance; its own pose is not used. Throws as
/// calibrate_plane.
struct PoseCalibration {
  CameraMapping mapping{CameraModel{}};
  std::vector<MappedPoint> points;
  double rms_px = 0, sigma_px = 0, largest_mm = 0;
};
PoseCalibration calibrate_pose(const BoardView& view, const BoardShape& shape, const CameraMapping& lens);

}  // namespace heron
