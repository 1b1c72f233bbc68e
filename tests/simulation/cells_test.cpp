#include <doctest/doctest.h>

#include "heron/base/error.hpp"
#include "heron/calibrate/hand_eye.hpp"
#include "heron/calibrate/lens.hpp"
#include "heron/files/csv_file.hpp"
#include "heron/files/picture_file.hpp"
#include "heron/render/stack_station.hpp"
#include "heron/simulation/arm_cell.hpp"
#include "heron/simulation/simulated_camera.hpp"
#include "support.hpp"

using namespace heron;

TEST_CASE("the arm's cell is the same for a seed, and its poses are those of its pictures") {
  const support::TemporaryFolder folder;
  const ArmCell cell = write_arm_cell(folder / "a", 5, 2), again = write_arm_cell(folder / "b", 5, 2);
  CHECK(support::read_text(cell.path("poses.csv")) == support::read_text(again.path("poses.csv")));
  CHECK(support::read_text(cell.path("stop-02.png")) == support::read_text(again.path("stop-02.png")));
  const auto rows = load_csv(cell.path("poses.csv"), {"x", "y", "z", "rz", "ry", "rx"});
  REQUIRE(rows.size() == 2);
  for (size_t stop = 0; stop < 2; ++stop) {
    const auto& r = rows[stop];
    const Pose3 flange = *pose_of({{r[0], r[1], r[2]}, {r[3], r[4], r[5]}}, {RotationForm::zyx, true});
    CHECK((flange.position - cell.robot_from_flange[stop].position).norm() < 0.3);
    CHECK(radians(flange.rotation.angularDistance(cell.robot_from_flange[stop].rotation)).degrees() < 0.12);
    // The board is seen where these poses have it.
    const BoardSeen seen =
        find_board(grey_levels(load_picture(cell.path("stop-0" + std::to_string(stop + 1) + ".png"))),
                   cell.board, {.any_part = true});
    REQUIRE_MESSAGE(seen.found, seen.reason);
    if (!seen.marked) continue;
    const CameraModel camera{cell.lens, (cell.robot_from_flange[stop] * cell.flange_from_camera).inverse() *
                                            cell.robot_from_board};
    for (const BoardPoint& p : seen.points) {
      const Point2 at = cell.board.point(p.column, p.row);
      CHECK(distance(p.pixel, camera.project({at.x, at.y, 0})) < 0.2);
    }
  }
  CHECK_THROWS_AS(write_arm_cell(folder / "c", 1, 0), Error);
  CHECK_THROWS_AS(write_arm_cell("/proc/nowhere", 1, 1), Error);
}

TEST_CASE("the stack is as full, as holed and as tilted as it was asked for") {
  const render::StackStation s = render::make_stack_station(
                                 3, {.tilt_degrees = 3, .covered = 0.3, .holes = 0.2}),
                             same = render::make_stack_station(
                                 3, {.tilt_degrees = 3, .covered = 0.3, .holes = 0.2});
  CHECK(s.covered >= 0.3);
  CHECK(s.covered < 0.4);
  CHECK(norm(s.slope) <= std::tan(degrees(3).radians()));
  double holes = 0;
  bool alike = true;
  for (int y = 0; y < s.map.height(); ++y)
    for (int x = 0; x < s.map.width(); ++x) {
      const bool hole = std::isnan(s.map(x, y));
      holes += hole;
      alike = alike && (hole ? std::isnan(same.map(x, y)) : s.map(x, y) == same.map(x, y));
    }
  CHECK(alike);
  CHECK(holes / (s.map.width() * s.map.height()) == doctest::Approx(0.18).epsilon(0.15));  // streaks overlap
}

TEST_CASE("the simulated camera says what it can and refuses what it cannot") {
  const auto camera = open_simulated(2);
  const CameraInfo info = camera->info();
  CHECK(info.address == "simulated:2");
  CHECK(info.exposure_ms->max == 50);
  const auto first = camera->take();
  REQUIRE(first);
  CHECK(first->width() == 1280);
  CHECK(first->exposure_ms == 8);
  for (const double wrong : {0.0, -1.0, 51.0, std::nan("")})
    CHECK_THROWS_AS(camera->set_exposure_ms(wrong), Error);
  for (const double wrong : {0.5, 17.0, std::nan("")}) CHECK_THROWS_AS(camera->set_gain(wrong), Error);
  CHECK(camera->exposure_ms() == 8);
}
