#include <doctest/doctest.h>

#include "heron/base/error.hpp"
#include "heron/calibrate/check.hpp"
#include "heron/calibrate/rectify.hpp"
#include "heron/render/tray_station.hpp"

using namespace heron;
using namespace heron::render;

namespace {

const BoardShape checked_board{.kind = BoardKind::dots, .columns = 11, .rows = 9, .pitch_mm = 16};

Image<uint8_t> drawn(const CameraModel& camera, const Pose2& board, uint64_t seed, bool marked = true,
                     const BoardShape& s = checked_board) {
  Scene scene;
  scene.camera = camera;
  scene.light = {1.0, {0.2, -0.1}, 0.1};
  scene.pieces = board_pieces(s, board, marked);
  Random random(seed);
  return expose(exact_picture(scene), {.sigma = 2}, random);
}

BoardSeen seen_in(const Image<uint8_t>& picture) {
  BoardSeen seen = find_board(picture, checked_board);
  REQUIRE_MESSAGE(seen.found, seen.reason);
  return seen;
}

}  // namespace

TEST_CASE("an old mapping holds, was moved, or no longer measures right") {
  const Lens lens{.fx = 2400, .fy = 2400};
  const CameraModel camera = camera_above(600, lens, 3_deg, 50_deg);
  const Pose2 place{-80, -64, 5_deg};
  const BoardSeen before = seen_in(drawn(camera, place, 1));
  const PlaneCalibration old =
      calibrate_plane(before.points, checked_board, before.dot_radius_px, 1280, 1024);
  const auto state = [&](const CameraModel& now, const Pose2& where, uint64_t seed) {
    const BoardSeen today = seen_in(drawn(now, where, seed));
    return check_mapping(old.mapping, old.sigma_px, checked_board, today.points, today.dot_radius_px);
  };
  int holds = 0;
  for (uint64_t seed = 2; seed < 22; ++seed) holds += state(camera, place, seed).state == MappingState::holds;
  CHECK(holds >= 19);

  // Laid down elsewhere: moved, by how much, and lengths still hold.
  const MappingCheck moved = state(camera, {-76, -66, 7_deg}, 30);
  CHECK(moved.state == MappingState::moved);
  CHECK(moved.turn.degrees() == doctest::Approx(2).epsilon(0.01));
  CHECK(std::abs(moved.scale - 1) < 1e-4);
  // The smallest move that matters is seen: 0.02 mm.
  CHECK(state(camera, place * Pose2{0.02, 0, {}}, 31).state == MappingState::moved);
  // The camera a millimetre higher: lengths read short.
  const MappingCheck higher = state(camera_above(601, lens, 3_deg, 50_deg), place, 32);
  CHECK(higher.state == MappingState::changed);
  CHECK(higher.scale == doctest::Approx(600.0 / 601).epsilon(2e-4));
  // Tilted by half a degree more.
  CHECK(state(camera_above(600, lens, 3.5_deg, 50_deg), place, 33).state == MappingState::changed);
  CHECK_THROWS_AS(check_mapping(old.mapping, 0.02, checked_board, {}), Error);
}

TEST_CASE("a board partly outside the picture is read by any of its marks, and without one only for a lens") {
  const CameraModel camera = camera_above(600, {.fx = 2400, .fy = 2400}, 10_deg, 20_deg);
  int read = 0;
  for (const BoardKind kind : {BoardKind::dots, BoardKind::checker})
    for (const Pose2& place : {Pose2{-20, -40, 5_deg},
                               {-140, -30, 0_deg},
                               {-60, -10, -8_deg},
                               {-60, -110, 4_deg},
                               {80, 60, 180_deg},
                               {150, -40, 100_deg}}) {
      const BoardShape s{.kind = kind, .columns = 11, .rows = 9, .pitch_mm = 16};
      const Image<uint8_t> picture = drawn(camera, place, 5, true, s);
      const BoardSeen seen = find_board(picture, s);
      if (!seen.found) {
        CHECK(seen.reason.find("marks must be in sight") != std::string::npos);
        continue;
      }
      ++read;
      CHECK(seen.marked);
      for (const BoardPoint& p : seen.points) {
        const Point2 t = place * s.point(p.column, p.row);
        CHECK(distance(p.pixel, camera.project({t.x, t.y, 0})) < 0.4);
      }
    }
  CHECK(read >= 8);
  const Image<uint8_t> unmarked = drawn(camera, {60, -40, 5_deg}, 6, false);
  const BoardSeen refused = find_board(unmarked, checked_board);
  CHECK_FALSE(refused.found);
  const BoardSeen part = find_board(unmarked, checked_board, {.any_part = true});
  REQUIRE_MESSAGE(part.found, part.reason);
  CHECK_FALSE(part.whole);
  CHECK_FALSE(part.marked);
  // A step along the board is a step along its numbering.
  for (size_t i = 1; i < part.points.size(); ++i)
    if (part.points[i].row == part.points[i - 1].row &&
        part.points[i].column == part.points[i - 1].column + 1)
      CHECK(distance(part.points[i].pixel, part.points[i - 1].pixel) > 40);
}

TEST_CASE("rectified, the board is square: its dots lie on whole millimetres") {
  const Lens bent{.fx = 2000, .fy = 2000, .k1 = -0.15, .k2 = 0.05};
  const CameraModel camera = camera_above(520, bent, 15_deg, 70_deg);
  const Image<uint8_t> picture = drawn(camera, {-80, -64, {}}, 7);
  const Mapping mapping = CameraMapping(camera);
  const Image<uint8_t> flat =
      rectified(mapping, {{-100, -84}, 200, 168, 0.25}, 1280, 1024, 200).apply(picture);
  CHECK(flat.width() == 800);
  CHECK(flat.height() == 672);
  const BoardSeen seen = find_board(flat, checked_board);
  REQUIRE_MESSAGE(seen.found, seen.reason);
  for (const BoardPoint& p : seen.points) {
    // The window's corner lies at (-100, -84) mm; rows run downwards from Y = 84.
    const Point2 world{-100 + (p.pixel.x + 0.5) * 0.25, -84 + (672 - 0.5 - p.pixel.y) * 0.25};
    CHECK(distance(world, Point2{-80, -64} + checked_board.point(p.column, p.row)) < 0.05);
  }
  // Undistorted, a plane mapping fits what was bent.
  const Image<uint8_t> straight = undistorted(bent, 1280, 1024).apply(picture);
  const BoardSeen again = seen_in(straight);
  CHECK(calibrate_plane(again.points, checked_board, again.dot_radius_px, 1280, 1024).distortion_px < 0.06);
  const BoardSeen first = seen_in(picture);
  CHECK(calibrate_plane(first.points, checked_board, first.dot_radius_px, 1280, 1024).distortion_px > 0.2);
  CHECK_THROWS_AS(rectified(mapping, {{0, 0}, 0, 10, 0.1}, 1280, 1024), Error);
  CHECK_THROWS_AS(rectified(mapping, {{0, 0}, 1e9, 10, 0.1}, 1280, 1024), Error);
  CHECK_THROWS_AS(rectified(PlaneMapping(), {{0, 0}, 10, 10, 0.1, 5}, 1280, 1024), Error);
}
