#pragma once
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

/// Standard deviations of a pose. Zero where nothing is known of it.
struct PoseSigma {
  double x = 0, y = 0;
  Angle angle;
  double scale = 0;
};

}  // namespace heron
