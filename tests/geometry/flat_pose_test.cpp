#include <doctest/doctest.h>

#include "heron/geometry/flat_pose.hpp"
#include "heron/render/random.hpp"
#include "sanitized.hpp"

using namespace heron;

namespace {

const Lens wide{.fx = 520, .fy = 515, .cx = 318, .cy = 241, .k1 = -0.05, .p1 = 2e-4};
const std::vector<Point2> plate{{-100, 65}, {100, 65}, {100, -65}, {-100, -65}, {70, 10}};

Pose3 facing(double turned, double tipped, double rolled, const Eigen::Vector3d& at) {
  // The part's z towards the camera, its y up: half a turn about the camera's x, then as asked.
  const Eigen::Quaterniond facing_camera(Eigen::AngleAxisd(std::numbers::pi, Eigen::Vector3d::UnitX()));
  return {turn_of({0, degrees(turned).radians(), 0}) * turn_of({degrees(tipped).radians(), 0, 0}) *
              turn_of({0, 0, degrees(rolled).radians()}) * facing_camera,
          at};
}

std::vector<Point2> seen(const Pose3& pose, double noise, render::Random& random) {
  std::vector<Point2> pixels;
  for (const Point2& p : plate)
    pixels.push_back(project(wide, pose * Eigen::Vector3d(p.x, p.y, 0)) +
                     Point2{noise * random.normal(), noise * random.normal()});
  return pixels;
}

}  // namespace

TEST_CASE("a flat part's pose is exact from exact pixels, at every tilt") {
  render::Random random(3);
  for (const double turned : {-40.0, -3.0, 0.0, 0.5, 25.0})
    for (const double tipped : {-20.0, 0.0, 35.0}) {
      const Pose3 pose = facing(turned, tipped, 12, {20, -15, 480});
      const auto found = flat_pose(wide, plate, seen(pose, 0, random), 0.05);
      REQUIRE(found);
      CHECK((found->camera_from_part.position - pose.position).norm() < 1e-4);
      CHECK(found->camera_from_part.rotation.angularDistance(pose.rotation) < 1e-6);
      CHECK(found->rms_px < 1e-6);
    }
}

TEST_CASE("a flat part's pose tells how far it may be off") {
  render::Random random(5);
  const Pose3 pose = facing(6, -4, 0, {-30, 10, 420});
  const int runs = sanitized ? 30 : 2000;
  int near = 0;
  double heading = 0, told = 0;
  for (int i = 0; i < runs; ++i) {
    const auto found = flat_pose(wide, plate, seen(pose, 0.05, random), 0.05);
    REQUIRE(found);
    const double off = found->camera_from_part.position.z() - pose.position.z();
    near += std::abs(off) <= 2 * std::sqrt(found->covariance(5, 5));
    const Eigen::Vector3d turn =
        rotation_vector_of(found->camera_from_part.rotation * pose.rotation.conjugate());
    heading += turn.y() * turn.y(), told += found->covariance(1, 1);
  }
  if (sanitized) return;
  CHECK(near > 0.93 * runs);
  CHECK(near < 0.97 * runs);
  CHECK(std::sqrt(heading / told) == doctest::Approx(1).epsilon(0.06));
}

TEST_CASE("points that fix no pose are refused") {
  render::Random random(7);
  const auto pixels = seen(facing(0, 0, 0, {0, 0, 400}), 0, random);
  CHECK_FALSE(flat_pose(wide, {plate[0], plate[1], plate[2]}, {pixels[0], pixels[1], pixels[2]}, 0.05));
  const std::vector<Point2> line{{0, 0}, {10, 0}, {20, 0}, {30, 0}};
  CHECK_FALSE(flat_pose(wide, line, {{100, 100}, {110, 100}, {120, 100}, {130, 100}}, 0.05));
}
