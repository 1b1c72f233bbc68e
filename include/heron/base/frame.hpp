#pragma once
#include "heron/base/pose.hpp"

namespace heron {

/// The frames of a cell: right-handed, millimetres, angles from +X towards +Y. They are names for the
/// compiler alone and cost nothing.
namespace frames {
struct World;   ///< the mapping's own, on the work plane
struct User;    ///< the user's zero and axes on the work plane; the mapping's own where none are set
struct Robot;   ///< the robot's base
struct Flange;  ///< the robot's flange
struct Part;    ///< a part's own, its origin where it was taught
struct Grasp;   ///< where the robot takes a part
}  // namespace frames

/// A point or a vector in one frame, millimetres. Points of different frames, and pixels, do not mix.
template <class Frame>
struct FramePoint {
  double x = 0, y = 0;
  constexpr FramePoint() = default;
  constexpr FramePoint(double x_mm, double y_mm) : x(x_mm), y(y_mm) {}
  /// A point that was calculated without a frame.
  constexpr explicit FramePoint(Point2 plain) : x(plain.x), y(plain.y) {}
  constexpr Point2 plain() const { return {x, y}; }

  constexpr bool operator==(const FramePoint&) const = default;
  constexpr FramePoint operator+(FramePoint b) const { return {x + b.x, y + b.y}; }
  constexpr FramePoint operator-(FramePoint b) const { return {x - b.x, y - b.y}; }
  constexpr FramePoint operator-() const { return {-x, -y}; }
  constexpr FramePoint operator*(double f) const { return {x * f, y * f}; }
  constexpr FramePoint operator/(double f) const { return {x / f, y / f}; }
};
using WorldPoint = FramePoint<frames::World>;
using UserPoint = FramePoint<frames::User>;
using RobotPoint = FramePoint<frames::Robot>;

template <class Frame>
double norm(FramePoint<Frame> a) {
  return norm(a.plain());
}
template <class Frame>
double distance(FramePoint<Frame> a, FramePoint<Frame> b) {
  return norm(a - b);
}
template <class Frame>
bool is_finite(FramePoint<Frame> p) {
  return is_finite(p.plain());
}

/// A rigid motion of the plane from one frame into another, named destination_from_source. Motions compose
/// where their frames meet: `robot_from_world * world_from_part`; any other order does not compile.
template <class To, class From>
struct FramePose {
  double x = 0, y = 0;  ///< millimetres
  WorldAngle angle;
  constexpr FramePose() = default;
  constexpr FramePose(double x_mm, double y_mm, WorldAngle turned) : x(x_mm), y(y_mm), angle(turned) {}
  /// A motion that was calculated without frames.
  constexpr explicit FramePose(const Pose2& plain) : x(plain.x), y(plain.y), angle(plain.angle) {}
  constexpr Pose2 plain() const { return {x, y, angle.turn()}; }

  FramePoint<To> position() const { return {x, y}; }
  FramePoint<To> operator*(FramePoint<From> p) const { return FramePoint<To>(plain() * p.plain()); }
  template <class Inner>
  FramePose<To, Inner> operator*(const FramePose<From, Inner>& inner) const {
    return FramePose<To, Inner>(plain() * inner.plain());
  }
  FramePose<From, To> inverse() const { return FramePose<From, To>(plain().inverse()); }
};
using RobotFromWorld = FramePose<frames::Robot, frames::World>;
using RobotFromUser = FramePose<frames::Robot, frames::User>;
using RobotFromFlange = FramePose<frames::Robot, frames::Flange>;
using FlangeFromWorld = FramePose<frames::Flange, frames::World>;
using PartFromGrasp = FramePose<frames::Part, frames::Grasp>;

/// A pose in a frame with its standard uncertainty.
template <class Frame>
struct MeasuredPose {
  double x_mm = 0, y_mm = 0, z_mm = 0;
  WorldAngle angle;
  PoseSigma sigma;  ///< millimetres

  FramePoint<Frame> position() const { return {x_mm, y_mm}; }
};
using WorldPose = MeasuredPose<frames::World>;
using UserPose = MeasuredPose<frames::User>;
using RobotPose = MeasuredPose<frames::Robot>;

}  // namespace heron
