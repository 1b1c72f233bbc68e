#include <doctest/doctest.h>

#include <cmath>
#include <limits>

#include "heron/base/error.hpp"
#include "heron/calibrate/check.hpp"
#include "heron/calibrate/hand_eye.hpp"
#include "heron/calibrate/known_length.hpp"
#include "heron/calibrate/known_points.hpp"
#include "heron/calibrate/lens.hpp"
#include "heron/heights/ground.hpp"
#include "heron/light/light.hpp"

using namespace heron;

// NaN, infinite, empty, tiny and huge inputs for each public call: an Error or an answer with its reason,
// never a crash.
namespace {

const double inf = std::numeric_limits<double>::infinity(),
             nan_value = std::numeric_limits<double>::quiet_NaN();
const BoardShape small{.kind = BoardKind::dots, .columns = 4, .rows = 4, .pitch_mm = 10};

std::vector<BoardPoint> grid(double spacing, double bad = 0) {
  std::vector<BoardPoint> points;
  for (int j = 0; j < 4; ++j)
    for (int i = 0; i < 4; ++i) points.push_back({i, j, {100 + spacing * i, 400 - spacing * j}});
  if (bad != 0) points[5].pixel.x = bad;
  return points;
}

}  // namespace

TEST_CASE("planes and poses from points that are none") {
  for (const double bad : {nan_value, inf, -inf}) {
    CHECK_THROWS_AS(calibrate_plane(grid(50, bad), small, 0, 640, 480), Error);
    CHECK_THROWS_AS(calibrate_pose({"v", grid(50, bad)}, small, CameraMapping(CameraModel{})), Error);
    CHECK_THROWS_AS(
        calibrate_lens({{"a", grid(50, bad)}, {"b", grid(50, bad)}, {"c", grid(50, bad)}}, small, 640, 480),
        Error);
  }
  CHECK_THROWS_AS(calibrate_plane(grid(0), small, 0, 640, 480), Error);
  CHECK_THROWS_AS(calibrate_pose({"v", {}}, small, CameraMapping(CameraModel{})), Error);
  CHECK_THROWS_AS(calibrate_pose({"v", grid(0)}, small, CameraMapping(CameraModel{})), Error);
  CHECK_THROWS_AS(calibrate_lens({{"a", grid(50)}}, small, 640, 480, {.plane_view = 3}), Error);
  CHECK_THROWS_AS(calibrate_lens({{"a", grid(50)}}, small, 640, 480, {.plane_view = -1}), Error);
  BoardView part{"part", grid(50)};
  part.placed = false;
  CHECK_THROWS_WITH_AS(calibrate_lens({part, part, part}, small, 640, 480),
                       doctest::Contains("name another picture"), Error);
  BoardShape wrong = small;
  wrong.pitch_mm = -1;
  CHECK_THROWS_AS(calibrate_pose({"v", grid(50)}, wrong, CameraMapping(CameraModel{})), Error);
}

TEST_CASE("lengths and known points that cannot be") {
  const KnownLength good{.from = {10, 10}, .to = {110, 10}, .length_mm = 25};
  for (const double bad : {0.0, -1.0, nan_value, inf}) {
    KnownLength l = good;
    l.length_mm = bad;
    CHECK_THROWS_AS(mapping_of_length(l, 640, 480), Error);
    CHECK_THROWS_AS(camera_of_length_at(good, bad, 0, 640, 480), Error);
    l = good;
    l.to.x = bad == 0 ? 10 : bad == -1 ? 10.5 : bad;
    CHECK_THROWS_AS(mapping_of_length(l, 640, 480), Error);
  }
  KnownLength unsure = good;
  unsure.sigma_px = -1;
  CHECK_THROWS_AS(mapping_of_length(unsure, 640, 480), Error);
  CHECK_THROWS_AS(mapping_of_length(good, 0, 480), Error);
  CHECK_THROWS_AS(camera_of_length_at(good, 500, nan_value, 640, 480), Error);
  CHECK_THROWS_AS(calibrate_known_points({}, 640, 480), Error);
  for (const double bad : {nan_value, inf})
    CHECK_THROWS_AS(calibrate_known_points({{{0, 0}, {0, 0}}, {{10, bad}, {5, 5}}}, 640, 480), Error);
  for (const double tolerance : {0.0, -1.0, nan_value, 1e9})
    CHECK_THROWS_AS(
        calibrate_known_points({{{0, 0}, {0, 0}}, {{10, 3}, {5, 5}}}, 640, 480, {.tolerance_px = tolerance}),
        Error);
}

TEST_CASE("hand-eye and wrists without anything to go by") {
  CHECK_THROWS_AS(solve_hand_eye({}, CameraMount::arm), Error);
  CHECK_THROWS_AS(solve_hand_eye(std::vector<HandEyeSample>(12), CameraMount::fixed), Error);
  CHECK_FALSE(explain_misfit({}, {}, {}, CameraMount::arm, {}));
  CHECK_THROWS_AS(find_turning_centre({}, {}), Error);
  CHECK_THROWS_AS(find_turning_centre({1_deg}, {}), Error);
  CHECK_FALSE(rotation_of(RotationForm::zyx, {1, 2}, true));
  CHECK_FALSE(rotation_of(RotationForm::zyx, {1, 2, nan_value}, true));
  CHECK_FALSE(rotation_of(RotationForm::quaternion_wxyz, {0, 0, 0, 0}, true));
  CHECK_FALSE(pose_of({{nan_value, 0, 0}, {0, 0, 0}}, {}));
}

TEST_CASE("pictures and maps of one pixel, of nothing, of one value") {
  for (const auto& [w, h] : {std::pair{1, 1}, {1, 500}, {31, 31}, {0, 0}}) {
    CHECK_THROWS_AS(judge_light(Image<uint8_t>(w, h)), Error);
    CHECK_THROWS_AS(judge_heights(Image<float>(w, h)), Error);
    CHECK_FALSE(find_ground(Image<float>(std::min(w, 9), std::min(h, 9)), {1, 1}).found);
  }
  Image<float> infinite(40, 40);
  for (int y = 0; y < 40; ++y) std::fill_n(infinite.row(y), 40, std::numeric_limits<float>::infinity());
  CHECK_FALSE(find_ground(infinite, {1, 1}).found);
  CHECK(judge_heights(infinite).overall == Fitness::poor);
  CHECK_THROWS_AS(check_mapping(PlaneMapping(), 0.1, small, grid(50)).points.at(99), std::out_of_range);
}
