#include "heron/base/frame.hpp"

#include <doctest/doctest.h>

#include <concepts>

using namespace heron;

namespace {

template <class A, class B>
concept Adds = requires(A a, B b) {
  a + b;
};
template <class A, class B>
concept Composes = requires(A a, B b) {
  a* b;
};

using WorldFromPart = FramePose<frames::World, frames::Part>;

}  // namespace

TEST_CASE("points of different frames, and pixels, do not mix") {
  static_assert(Adds<WorldPoint, WorldPoint>);
  static_assert(!Adds<WorldPoint, RobotPoint>);
  static_assert(!Adds<WorldPoint, Point2>);
  static_assert(!std::convertible_to<Point2, WorldPoint>);
  static_assert(!std::convertible_to<WorldPoint, Point2>);
  CHECK(distance(WorldPoint{1, 2}, WorldPoint{4, 6}) == 5);
}

TEST_CASE("motions compose only where their frames meet") {
  static_assert(Composes<RobotFromWorld, WorldFromPart>);
  static_assert(Composes<RobotFromWorld, WorldPoint>);
  static_assert(!Composes<WorldFromPart, RobotFromWorld>);
  static_assert(!Composes<RobotFromWorld, PartFromGrasp>);
  static_assert(!Composes<RobotFromWorld, RobotPoint>);
  static_assert(!Composes<RobotFromWorld, Point2>);
  const RobotFromWorld robot_from_world{100, -50, WorldAngle{30_deg}};
  const WorldFromPart world_from_part{7, 9, WorldAngle{80_deg}};
  const FramePose<frames::Robot, frames::Part> robot_from_part = robot_from_world * world_from_part;
  CHECK(robot_from_part.angle.degrees() == doctest::Approx(110));
  const FramePoint<frames::Part> p{3, 4};
  CHECK(distance(robot_from_world * (world_from_part * p), robot_from_part * p) < 1e-12);
  CHECK(distance(robot_from_part.inverse() * (robot_from_part * p), p) < 1e-12);
}

TEST_CASE("a picture's angle and the world's are different types") {
  static_assert(!Adds<Angle, WorldAngle>);
  static_assert(!std::convertible_to<Angle, WorldAngle>);
  static_assert(!std::convertible_to<WorldAngle, Angle>);
  CHECK(WorldAngle{400_deg}.wrapped().degrees() == doctest::Approx(40));
  CHECK((WorldAngle{20_deg} - WorldAngle{50_deg}).degrees() == doctest::Approx(-30));
}
