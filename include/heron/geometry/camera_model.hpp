#pragma once
#include <optional>

#include "heron/base/pose.hpp"

namespace heron {

/// Pinhole with Brown-Conrady distortion (Brown, Close-range camera calibration, 1971). Lengths in pixels.
struct Lens {
  double fx = 2000, fy = 2000;    ///< focal length
  double cx = 639.5, cy = 511.5;  ///< principal point
  double k1 = 0, k2 = 0, k3 = 0;  ///< radial terms
  double p1 = 0, p2 = 0;          ///< tangential terms
};

/// A camera somewhere in the world: where a point of the world appears, and what a pixel looks at.
struct CameraModel {
  Lens lens;
  Pose3 camera_from_world;  ///< camera axes: x right, y down, z forward

  /// The pixel of a world point (millimetres). The point must lie in front of the camera.
  Point2 project(const Eigen::Vector3d& world) const;

  /// The point at height `z_mm` above the work plane that the pixel looks at; nothing when the ray does not
  /// meet it.
  std::optional<Point2> plane_point(Point2 pixel, double z_mm) const;
};

}  // namespace heron
