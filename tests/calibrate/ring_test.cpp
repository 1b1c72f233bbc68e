#include <doctest/doctest.h>

#include "heron/base/error.hpp"
#include "heron/calibrate/ring_pose.hpp"
#include "heron/render/tray_station.hpp"
#include "sanitized.hpp"
#include "support.hpp"

using namespace heron;
using namespace heron::render;

namespace {

constexpr double size_mm = 40;

struct MarkView {
  Scene scene;
  Pose2 world_from_mark;
  Point2 pixel(double x, double y) const {
    const Point2 w = world_from_mark * Point2{x, y};
    return scene.camera.project({w.x, w.y, 0});
  }
  Angle angle() const { return direction(pixel(0.01, 0) - pixel(-0.01, 0)); }
};

MarkView view_of(int identity, double diameter_px, double tilt, double turn) {
  MarkView v;
  const Lens lens{.fx = 1500, .fy = 1500, .cx = 159.5, .cy = 119.5};
  v.scene.camera = camera_above(size_mm * 1500 / diameter_px, lens, degrees(tilt), degrees(2.3 * turn + 10));
  v.scene.width = 320, v.scene.height = 240;
  v.scene.background = 0.85;
  const double mm = size_mm / diameter_px;
  v.world_from_mark = {13.3 * mm, -7.6 * mm, degrees(turn)};
  v.scene.pieces.push_back({ring_mark({identity, size_mm}), v.world_from_mark, 0.06});
  return v;
}

std::vector<RingSeen> rings_of(const Scene& scene, uint64_t seed, double sigma = 2) {
  Random random(seed);
  return find_ring_marks(expose(exact_picture(scene), {.sigma = sigma}, random));
}

}  // namespace

TEST_CASE("every identity is read, upright and slanted, within some sigmas of the truth") {
  for (int identity = 1; identity <= RingShape::identities; identity += sanitized ? 6 : 1)
    for (const double tilt : {0.0, 38.0}) {
      const MarkView v = view_of(identity, 26 + 4 * identity, tilt, 37.0 * identity);
      const auto rings = rings_of(v.scene, static_cast<uint64_t>(identity));
      CAPTURE(identity);
      REQUIRE(rings.size() == 1);
      const RingSeen& r = rings[0];
      CHECK(r.identity == identity);
      CHECK(distance(r.centre, v.pixel(0, 0)) < 0.03);
      CHECK(std::abs(r.centre.x - v.pixel(0, 0).x) < 5 * *r.sigma.x);
      CHECK(std::abs(r.centre.y - v.pixel(0, 0).y) < 5 * *r.sigma.y);
      CHECK(abs((r.angle - v.angle()).wrapped()) < *r.sigma.angle * 5);
      CHECK(abs((r.angle - v.angle()).wrapped()) < 0.3_deg);
      CHECK(r.score > 97);
    }
}

TEST_CASE("a mark of 20 pixels is read; in a mirror none is; half of one is none") {
  CHECK(rings_of(view_of(4, 20, 0, 71).scene, 3).size() == 1);
  MarkView mirrored_view = view_of(4, 60, 0, 71);
  mirrored_view.scene.pieces[0].outline = mirrored(mirrored_view.scene.pieces[0].outline);
  CHECK(rings_of(mirrored_view.scene, 3).empty());
  MarkView covered = view_of(4, 60, 0, 0);
  covered.scene.pieces.push_back({rectangle(20, 50), {size_mm * 0.6, -5, {}}, 0.4});
  CHECK(rings_of(covered.scene, 3).empty());
}

TEST_CASE("a mark within a window is the one that the whole picture shows; outside, none is") {
  const MarkView v = view_of(6, 60, 20, 33);
  Random random(5);
  const Image<uint8_t> picture = expose(exact_picture(v.scene), {.sigma = 2}, random);
  const auto in = [&](std::vector<Box> windows) {
    return find_ring_marks(picture, {.windows = std::move(windows)});
  };
  const RingSeen whole = find_ring_marks(picture).at(0);
  const Point2 c = whole.centre;
  const Box around{c.x - 55.3, c.y - 50.8, 110, 101}, beyond{-1e6, -50, 3e6, 1e5}, none{0, 0, 15, 40};
  for (const auto& windows : {std::vector{around}, {beyond}, {around, beyond, around}, {none, around}}) {
    const auto seen = in(windows);
    REQUIRE(seen.size() == 1);
    CHECK(seen[0].identity == 6);
    CHECK(distance(seen[0].centre, c) < 0.1 * *whole.sigma.x);
  }
  CHECK(in({none}).empty());
  CHECK(in({{500, 10, 100, 100}}).empty());
  CHECK(in({{10, 10, -40, 30}}).empty());
  CHECK(in({{c.x, c.y - 50, 100, 100}}).empty());  // half of it
  CHECK_THROWS_AS(in({around, {NAN, 0, 50, 50}}), Error);
  CHECK_THROWS_AS(in({{0, 0, INFINITY, 50}}), Error);
}

TEST_CASE("marks in dim, uneven, blurred and noisy light, several in one picture") {
  MarkView v = view_of(2, 50, 15, 12);
  v.scene.pieces.push_back({ring_mark({9, 34}), {60, 40, degrees(100)}, 0.1});
  v.scene.pieces.push_back({ring_mark({17, 30}), {-50, -40, degrees(-60)}, 0.1});
  v.scene.light = {0.35, {0.6, -0.4}, 0.2};
  v.scene.blur_px = 1.4;
  const auto rings = rings_of(v.scene, 5, 4);
  REQUIRE(rings.size() == 3);
  CHECK((rings[0].identity == 2 && rings[1].identity == 9 && rings[2].identity == 17));
}

TEST_CASE("the pose in space of a slanted mark, and the two of a small frontal one") {
  const Lens lens{.fx = 1500, .fy = 1500, .cx = 159.5, .cy = 119.5};
  const CameraMapping mapping(CameraModel{lens, {}});
  const MarkView v = view_of(6, 130, 35, 50);
  const auto rings = rings_of(v.scene, 8);
  REQUIRE(rings.size() == 1);
  const auto poses = ring_poses(rings[0], mapping, size_mm);
  REQUIRE(!poses.empty());
  const Pose3 world_from_ring{turn_of({0, 0, v.world_from_mark.angle.radians()}),
                              {v.world_from_mark.x, v.world_from_mark.y, 0}};
  const Pose3 truth = v.scene.camera.camera_from_world * world_from_ring;
  const Pose3 found = poses[0].camera_from_ring;
  const Eigen::Vector3d shift = found.position - truth.position,
                        turn = rotation_vector_of(truth.rotation * found.rotation.conjugate());
  for (int k = 0; k < 3; ++k) {
    CHECK(std::abs(turn[k]) < 5 * std::sqrt(poses[0].covariance(k, k)));
    CHECK(std::abs(shift[k]) < 5 * std::sqrt(poses[0].covariance(k + 3, k + 3)));
  }
  CHECK(shift.norm() < 0.3);
  CHECK(turn.norm() < radians(0.01).radians());

  const MarkView frontal = view_of(6, 20, 6, 50);
  const auto small = rings_of(frontal.scene, 9);
  REQUIRE(small.size() == 1);
  const auto both = ring_poses(small[0], mapping, size_mm);
  REQUIRE(both.size() == 2);
  CHECK(both[0].chi_square <= both[1].chi_square);
  CHECK(both[0].covariance(0, 0) > 0);
}

TEST_CASE("wrong calls about ring marks are told") {
  const Image<uint8_t> tiny(3, 3), plain(200, 150);
  CHECK(find_ring_marks(tiny).empty());
  CHECK(find_ring_marks(plain).empty());
  CHECK(support::contains(support::error_of([&] { find_ring_marks(plain, {.min_diameter_px = 5}); }), "12"));
  CHECK(
      support::contains(support::error_of([&] { find_ring_marks(plain, {.min_score = 101}); }), "0 to 100"));
  CHECK(support::contains(support::error_of([] { RingShape{20, 40}.require_valid(); }), "1 to 19"));
  CHECK(support::contains(support::error_of([] { RingShape{1, 0.1}.loops(); }), "0.5"));
  CHECK(support::contains(support::error_of([] { ring_poses(RingSeen{}, CameraMapping(CameraModel{}), 0); }),
                          "above 0"));
}

TEST_CASE("pictures that look like much and hold no mark: noise, black, white, stripes, a chess of edges") {
  Random random(3);
  for (int kind = 0; kind < 5; ++kind) {
    Image<uint8_t> picture(400, 300);
    for (int y = 0; y < 300; ++y)
      for (int x = 0; x < 400; ++x)
        picture(x, y) = static_cast<uint8_t>(kind == 0   ? random.whole(0, 255)
                                             : kind == 1 ? 0
                                             : kind == 2 ? 255
                                             : kind == 3 ? (x / 5 % 2 ? 220 : 30)
                                                         : ((x / 9 + y / 9) % 2 ? 220 : 30));
    CAPTURE(kind);
    CHECK(find_ring_marks(picture).empty());
  }
}

TEST_CASE("a mark in glare or with one tooth covered is still read, and its place holds") {
  MarkView v = view_of(12, 70, 20, 33);
  // A patch over one place of the teeth, seen from the mark: bright where it may be dark or the other way.
  const double at = radians((3.5) * 2 * 3.141592653589793 / 16).radians();
  const bool bright = RingShape::bright(12, 3);
  v.scene.pieces.push_back(
      {disc(0.1 * size_mm),
       v.world_from_mark * Pose2{0.27 * size_mm * std::cos(at), 0.27 * size_mm * std::sin(at), {}},
       bright ? 0.06 : 0.85});
  v.scene.glares.push_back({v.pixel(12, 9), 6, 0.25});
  const auto rings = rings_of(v.scene, 21);
  REQUIRE(rings.size() == 1);
  CHECK(rings[0].identity == 12);
  CHECK(distance(rings[0].centre, v.pixel(0, 0)) < 0.15);
  CHECK(abs((rings[0].angle - v.angle()).wrapped()) < 0.5_deg);
}

TEST_CASE("no identity can be taken for another, turned or mirrored, with one place wrong") {
  const auto differ = [](int a, int b, int turn, bool mirrored) {
    int count = 0;
    for (int k = 0; k < RingShape::places; ++k) {
      const int other = mirrored ? RingShape::places - 1 - k : k;
      count += RingShape::bright(a, k) != RingShape::bright(b, (other + turn) % RingShape::places);
    }
    return count;
  };
  int least = RingShape::places;
  for (int a = 1; a <= RingShape::identities; ++a)
    for (int b = 1; b <= RingShape::identities; ++b)
      for (int turn = 0; turn < RingShape::places; ++turn)
        for (const bool flip : {false, true})
          if (flip || a != b || turn != 0) least = std::min(least, differ(a, b, turn, flip));
  CHECK(least >= 4);
}
