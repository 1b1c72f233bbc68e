#include <doctest/doctest.h>

#include "heron/calibrate/ring_anchor.hpp"
#include "heron/files/picture_file.hpp"
#include "heron/render/tray_station.hpp"
#include "heron/simulation/arm_cell.hpp"
#include "support.hpp"

using namespace heron;

namespace {

std::vector<RingSeen> rings_in(const ArmCell& cell, const char* name) {
  return find_ring_marks(grey_levels(load_picture(cell.path(name))));
}

}  // namespace

TEST_CASE("ring marks carry a mapping along with a table that moved and a camera that was bumped into") {
  const support::TemporaryFolder folder;
  const ArmCell cell = write_arm_cell(folder / "arm", 1, 1);
  const Mapping mapping = CameraMapping({cell.lens, cell.camera_from_board});
  std::vector<RingAnchor> anchors;
  for (const RingSeen& r : rings_in(cell, "stop-01.png")) anchors.push_back(anchor_ring(mapping, r));
  REQUIRE(anchors.size() == 3);
  for (size_t k = 0; k < 3; ++k) {
    CHECK(anchors[k].identity == cell.marks[k].identity);
    CHECK(distance(anchors[k].place_mm.plain(), cell.board_from_mark[k].position()) < 0.004);
    CHECK(abs((anchors[k].angle.turn() - cell.board_from_mark[k].angle).wrapped()) < 0.02_deg);
    CHECK(anchors[k].diameter_mm == doctest::Approx(22).epsilon(2e-4));
  }
  CHECK(check_mapping(mapping, anchors, rings_in(cell, "stop-01.png")).state == MappingState::holds);

  const auto moved = rings_in(cell, "moved.png");
  CHECK(check_mapping(mapping, anchors, moved).state == MappingState::moved);
  const Point2 far{160, 120};
  const auto still_right = [&](const TransferredMapping& c) {
    // A point of the table is mapped from where it is seen now.
    const WorldPoint w(cell.old_from_moved * far);
    const Point2 pixel = CameraMapping({cell.lens, cell.camera_from_board}).pixel_from_world(w, 0);
    return distance(c.mapping.world_from_pixel(pixel), WorldPoint(far));
  };
  const TransferredMapping along = transfer_mapping(mapping, anchors, moved, Motion::along_plane);
  CHECK(still_right(along) < 0.006);
  CHECK(abs((along.turn - cell.old_from_moved.angle).wrapped()) < 0.01_deg);
  CHECK(along.reduced_chi_square < 5);
  CHECK(still_right(transfer_mapping(mapping, anchors, moved, Motion::free)) < 0.03);
  CHECK(*along.mapping.world_pose({640, 512}, {}).sigma.x > 0);

  const auto bumped = rings_in(cell, "bumped.png");
  REQUIRE(bumped.size() >= 2);
  CHECK(check_mapping(mapping, anchors, bumped).state == MappingState::changed);
  CHECK(transfer_mapping(mapping, anchors, bumped, Motion::along_plane).reduced_chi_square > 100);
  const TransferredMapping free = transfer_mapping(mapping, anchors, bumped, Motion::free);
  CHECK(free.reduced_chi_square < 9);
  const CameraModel now{cell.lens, cell.camera_from_board_bumped};
  for (const Point2 w : {Point2{80, 50}, Point2{0, 0}, Point2{150, 100}})
    CHECK(distance(free.mapping.world_from_pixel(now.project({w.x, w.y, 0})), WorldPoint(w)) < 0.05);

  // One mark alone carries it too, with the sigma that it deserves.
  const TransferredMapping one = transfer_mapping(mapping, {anchors[1]}, bumped, Motion::free);
  CHECK(one.identities == std::vector<int>{anchors[1].identity});
  CHECK(one.sigma_tilt > free.sigma_tilt);
}

TEST_CASE("a plane mapping goes along with its marks as well, along its plane") {
  const support::TemporaryFolder folder;
  const ArmCell cell = write_arm_cell(folder / "arm", 2, 1);
  // The plane of a lens without distortion, so that a homography is exact.
  Lens straight = cell.lens;
  straight.k1 = straight.k2 = straight.p1 = straight.p2 = 0;
  const Mapping plane = PlaneMapping(render::pixel_from_table({straight, cell.camera_from_board}));
  RingSeen seen;
  seen.identity = 5;
  const Pose2 before{40, 30, 20_deg}, after = Pose2{3, -2, 4_deg} * before;
  const auto put = [&](const Pose2& at) {
    Eigen::Matrix3d m;
    m << 10 * cos(at.angle), -10 * sin(at.angle), at.x, 10 * sin(at.angle), 10 * cos(at.angle), at.y, 0, 0, 1;
    seen.pixel_from_mark = plane.plane()->matrix() * m;
    seen.pixel_from_mark /= seen.pixel_from_mark(2, 2);
    seen.covariance = Eigen::Matrix<double, 8, 8>::Identity() * 1e-10;
    seen.centre = plane.pixel_from_world(WorldPoint(at.position()));
    const Point2 x = plane.pixel_from_world(WorldPoint(at * Point2{0.01, 0})) -
                     plane.pixel_from_world(WorldPoint(at * Point2{-0.01, 0}));
    seen.angle = direction(x);
    seen.diameter_px = 20 / plane.mm_per_pixel(seen.centre);
  };
  put(before);
  const RingAnchor anchor = anchor_ring(plane, seen);
  CHECK(anchor.diameter_mm == doctest::Approx(20));
  put(after);
  const TransferredMapping c = transfer_mapping(plane, {anchor}, {seen}, Motion::along_plane);
  CHECK(c.old_from_now.position.x() == doctest::Approx(3));
  CHECK(c.turn.degrees() == doctest::Approx(4));
  const WorldPoint w(Pose2{3, -2, 4_deg} * Point2{70, 10});
  CHECK(distance(c.mapping.world_from_pixel(plane.pixel_from_world(w)), WorldPoint{70, 10}) < 1e-6);

  CHECK(support::contains(support::error_of([&] { transfer_mapping(plane, {anchor}, {seen}, Motion::free); }),
                          "--lens-from"));
  CHECK(support::contains(
      support::error_of([&] { transfer_mapping(plane, {}, {seen}, Motion::along_plane); }), "--anchor"));
  CHECK(support::contains(
      support::error_of([&] { transfer_mapping(plane, {anchor}, {}, Motion::along_plane); }), "none of"));
  seen.pixel_from_mark(0, 0) *= 1.3;  // an ellipse that no flat mark gives
  CHECK(support::contains(support::error_of([&] { anchor_ring(plane, seen); }), "lying flat"));
}
