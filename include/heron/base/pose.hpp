#pragma once
#include <Eigen/Geometry>

#include "heron/base/point.hpp"

namespace heron {

/// A rigid motion of the plane, named destination_from_source: turn by `angle`, then shift by (x, y).
/// As the pose of a part it is frame_from_part.
struct Pose2 {
  double x = 0, y = 0;
  Angle angle;

  Point2 position() const { return {x, y}; }
  Point2 operator*(Point2 p) const { return rotated(p, angle) + position(); }
  Pose2 operator*(const Pose2& inner) const {
    const Point2 p = *this * inner.position();
    return {p.x, p.y, (angle + inner.angle).wrapped()};
  }
  Pose2 inverse() const {
    const Point2 p = rotated(-position(), -angle);
    return {p.x, p.y, (-angle).wrapped()};
  }
};

/// A rigid motion with one scale: scale and turn, then shift.
struct Similarity2 {
  double x = 0, y = 0;
  Angle angle;
  double scale = 1;

  Point2 position() const { return {x, y}; }
  Point2 operator*(Point2 p) const { return rotated(p, angle) * scale + position(); }
  Similarity2 inverse() const {
    const Point2 p = rotated(-position(), -angle) / scale;
    return {p.x, p.y, (-angle).wrapped(), 1 / scale};
  }
};

/// A rigid motion in space, named destination_from_source; millimetres.
struct Pose3 {
  Eigen::Quaterniond rotation = Eigen::Quaterniond::Identity();
  Eigen::Vector3d position = Eigen::Vector3d::Zero();

  Eigen::Vector3d operator*(const Eigen::Vector3d& p) const { return rotation * p + position; }
  Pose3 operator*(const Pose3& inner) const { return {rotation * inner.rotation, *this * inner.position}; }
  Pose3 inverse() const {
    const Eigen::Quaterniond back = rotation.conjugate();
    return {back, -(back * position)};
  }
};

}  // namespace heron
