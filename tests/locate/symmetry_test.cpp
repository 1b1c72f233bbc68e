#include <doctest/doctest.h>

#include "heron/locate/pattern.hpp"
#include "heron/locate/prepared_picture.hpp"
#include "heron/render/tray_station.hpp"

using namespace heron;
using namespace heron::render;

namespace {

constexpr int plate_side = 360;

Image<uint8_t> plate_of(const Outline& outline, const Pose2& pose, uint64_t seed,
                        const std::vector<Piece>& more = {}) {
  Scene scene;
  scene.camera =
      camera_above(600, {.fx = 2400, .fy = 2400, .cx = 0.5 * (plate_side - 1), .cy = 0.5 * (plate_side - 1)});
  scene.width = scene.height = plate_side;
  scene.pieces = {{outline, pose, 0.7}};
  scene.pieces.insert(scene.pieces.end(), more.begin(), more.end());
  Random random(seed);
  return expose(exact_picture(scene), {.sigma = 2}, random);
}

PatternTarget taught_plate(const Outline& outline, const std::vector<Piece>& more = {}, double turned = 0) {
  const double middle = 0.5 * (plate_side - 1);
  return teach_pattern(plate_of(outline, {0, 0, degrees(turned)}, 70, more),
                       Region::rectangle(Point2{middle, middle}, 200, 200, {}));
}

}  // namespace

TEST_CASE("how often a part looks the same is found for every outline, however it lies when taught") {
  for (const double turned : {0.0, 17.0}) {
    CAPTURE(turned);
    CHECK(taught_plate(rectangle(34, 22), {}, turned).symmetry_order() == 2);
    CHECK(taught_plate(rectangle(30, 30), {}, turned).symmetry_order() == 4);
    CHECK(taught_plate(hexagon(18), {}, turned).symmetry_order() == 6);
    CHECK(taught_plate(rosette(18, 8, 3), {}, turned).symmetry_order() == 8);
    CHECK(taught_plate(rosette(18, 5, 3), {}, turned).symmetry_order() == 5);
    CHECK(taught_plate(kite(34, 24), {}, turned).symmetry_order() == 1);
    CHECK(taught_plate(crescent(18, 16), {}, turned).symmetry_order() == 1);
    CHECK(taught_plate(leaf(40, 26), {}, turned).symmetry_order() == 1);
  }
}

TEST_CASE("one small mark ends a symmetry, and then tells the turns apart") {
  const Pose2 pose{1, -1, 77_deg};
  const auto marked = [](const Pose2& at) { return std::vector<Piece>{{rectangle(9, 5, {9, 0}), at, 0.2}}; };
  const PatternTarget target = taught_plate(hexagon(18), marked({}));
  CHECK(target.symmetry_order() == 1);
  const FindResult f = find(target, PreparedPicture(plate_of(hexagon(18), pose, 71, marked(pose))), {});
  REQUIRE(f.detections.size() == 1);
  CHECK(std::abs((f.detections[0].angle + pose.angle).wrapped().degrees()) < 0.05);
}

TEST_CASE("a symmetric part's angle stays within its period, at every angle") {
  const PatternTarget target = taught_plate(rosette(18, 8, 3));
  for (double angle = -175; angle < 180; angle += 37) {
    CAPTURE(angle);
    const FindResult f =
        find(target, PreparedPicture(plate_of(rosette(18, 8, 3), {2, 1, degrees(angle)}, 72)), {});
    REQUIRE(f.detections.size() == 1);
    const double told = f.detections[0].angle.degrees();
    CHECK(std::abs(told) <= 22.6);
    CHECK(std::abs(std::remainder(told + angle, 45.0)) < 0.1);
    CHECK(f.detections[0].score > 95);
  }
}
