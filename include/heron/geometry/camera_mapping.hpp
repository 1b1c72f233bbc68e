#pragma once
#include "heron/geometry/camera_model.hpp"
#include "heron/geometry/plane_mapping.hpp"

namespace heron {

/// Distance and bearing of something whose real width is known; each named, since they are not the same off
/// the axis.
struct WidthDistance {
  double along_axis_mm = 0;  ///< how far in front of the camera, measured along its optical axis
  double along_ray_mm = 0;   ///< how far from the camera's centre, straight to the thing
  Angle bearing;             ///< of the ray from the axis to the right
  Angle elevation;           ///< of the ray from the axis upwards
  double sigma_axis_mm = 0, sigma_ray_mm = 0;
};

/// How the known width lies.
enum class WidthLies {
  across_axis,  ///< parallel to the sensor: a plate on a square table, a sign on a wall that is faced
  across_ray,   ///< turned towards the camera: a ball, a post
};

/// Pixel to world through a camera that is known: lens and place. Serves every height.
class CameraMapping {
 public:
  /// fx fy cx cy k1 k2 p1 p2 k3, then of the camera a small turn (rotation vector in radians, applied after
  /// `camera_from_world`, about the camera's axes) and a shift (mm along the camera's axes).
  static constexpr int parameter_count = 15;
  using Covariance = Eigen::Matrix<double, parameter_count, parameter_count>;

  explicit CameraMapping(const CameraModel& camera, const Covariance& covariance = Covariance::Zero());

  /// Throws Error{not_determined} when the point lies behind the camera.
  Point2 pixel_from_world(WorldPoint world, double height_mm) const;
  /// Throws Error{not_determined} when the pixel's ray does not meet that height.
  WorldPoint world_from_pixel(Point2 pixel, double height_mm) const;
  /// As PlaneMapping::world_pose, on the plane `height_mm` above the work plane.
  WorldPose world_pose(Point2 pixel, Angle angle, const PoseSigma& seen, double height_mm) const;

  /// How far away a width of `width_mm` is that is seen from pixel `a` to pixel `b`; `sigma_px` is that of
  /// each pixel. Exact off the axis too: the two rays are intersected with a segment of that length, instead
  /// of dividing f * width by pixels. Throws Error when a == b, or width_mm is not positive.
  WidthDistance distance_of_width(Point2 a, Point2 b, double width_mm,
                                  WidthLies lies = WidthLies::across_axis, double sigma_px = 0) const;

  const CameraModel& camera() const { return camera_; }
  const Covariance& covariance() const { return covariance_; }
  /// The camera after its parameters changed by `change`, in the order of the covariance.
  CameraModel changed(const Eigen::Matrix<double, parameter_count, 1>& change) const;

 private:
  CameraModel camera_;
  Covariance covariance_;
};

}  // namespace heron
