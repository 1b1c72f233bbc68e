#pragma once
#include <Eigen/Geometry>

namespace heron {

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
