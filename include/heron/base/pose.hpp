#pragma once
#include <optional>

#include "heron/base/point.hpp"

namespace heron {

/// A rigid motion of the plane, named destination_from_source: turn by `angle`, then shift by (x, y). Poses
/// whose frames the compiler checks are `FramePose` (heron/base/frame.hpp).
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

/// Standard uncertainties (1 sigma) of a pose; nothing where it is not known.
struct PoseSigma {
  std::optional<double> x = {}, y = {};
  std::optional<Angle> angle = {};
  std::optional<double> scale = {};  ///< 0 where the scale is fixed
};
/// Of a pose that is given, not measured.
inline constexpr PoseSigma exact_pose{0, 0, Angle{}, 0};

}  // namespace heron
