#pragma once
#include <Eigen/Core>
#include <optional>

#include "heron/base/frame.hpp"
#include "heron/base/pose3.hpp"

namespace heron {

/// Pinhole with Brown-Conrady distortion (Brown, Close-range camera calibration, 1971). Lengths in pixels.
struct Lens {
  double fx = 2000, fy = 2000;    ///< focal length
  double cx = 639.5, cy = 511.5;  ///< principal point
  double k1 = 0, k2 = 0, k3 = 0;  ///< radial terms
  double p1 = 0, p2 = 0;          ///< tangential terms
};

/// The lens as a vector, in the order fx, fy, cx, cy, k1, k2, p1, p2, k3.
using LensVector = Eigen::Matrix<double, 9, 1>;
LensVector vector_of(const Lens& lens);
Lens lens_of(const LensVector& vector);

/// How a pixel moves with the lens' parameters and with the point, which is in camera coordinates.
struct ProjectionDerivative {
  Eigen::Matrix<double, 2, 9> by_lens;
  Eigen::Matrix<double, 2, 3> by_point;
};

/// The pixel of a point in camera coordinates (z forward, above 0).
Point2 project(const Lens& lens, const Eigen::Vector3d& point, ProjectionDerivative* derivative = nullptr);

/// The ray (x, y, 1) that a pixel looks along, in camera coordinates, by Newton's method; nothing where the
/// distortion folds the picture, so that no ray or several lead there.
std::optional<Eigen::Vector3d> ray_of(const Lens& lens, Point2 pixel);

/// A small turn, as a rotation vector in radians.
Eigen::Quaterniond turn_of(const Eigen::Vector3d& rotation_vector);
/// The rotation vector of a turn, at most half a turn long.
Eigen::Vector3d rotation_vector_of(const Eigen::Quaterniond& rotation);

/// A camera somewhere in the world: where a point of the world appears, and what a pixel looks at.
struct CameraModel {
  Lens lens;
  Pose3 camera_from_world;  ///< camera axes: x right, y down, z forward

  /// The pixel of a world point (millimetres). The point must lie in front of the camera.
  Point2 project(const Eigen::Vector3d& world) const;

  /// The point at height `z_mm` above the work plane that the pixel looks at; nothing when the ray does not
  /// meet it.
  std::optional<WorldPoint> plane_point(Point2 pixel, double z_mm) const;
};

}  // namespace heron
