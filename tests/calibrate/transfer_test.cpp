#include <doctest/doctest.h>

#include "geometry/linear.hpp"
#include "heron/calibrate/ring_anchor.hpp"
#include "heron/calibrate/ring_pose.hpp"
#include "heron/render/tray_station.hpp"
#include "sanitized.hpp"
#include "support.hpp"

// Marks without pictures: what is seen of them is drawn from a covariance, so that thousands of cases cost
// little and the sigmas of all that follows can be held against its errors.
using namespace heron;
using namespace heron::render;

namespace {

const Lens straight{.fx = 1900, .fy = 1900, .cx = 639.5, .cy = 511.5};
const int runs = sanitized ? 60 : 600;

/// A mark lying flat at `place`, seen by a camera with noise of `sigma_px` on each coordinate of its rim.
RingSeen seen_mark(int identity, const Pose2& place, double diameter_mm, const CameraModel& camera,
                   double sigma_px, Random& random) {
  const double r = diameter_mm / 2;
  Homography world_from_mark;
  world_from_mark << r * cos(place.angle), -r * sin(place.angle), place.x, r * sin(place.angle),
      r * cos(place.angle), place.y, 0, 0, 1;
  Homography h = pixel_from_table(camera) * world_from_mark;
  h /= h(2, 2);
  // Noise of the rim's four points, taken back to the homography's elements.
  Eigen::Matrix<double, 8, 8> by;
  Eigen::Matrix<double, 8, 1> noise;
  const Point2 rim[] = {{1, 0}, {0, 1}, {-1, 0}, {0, -1}};
  for (int k = 0; k < 4; ++k) {
    by.block<2, 8>(2 * k, 0) = derivative_by_elements(h, rim[k]);
    noise[2 * k] = sigma_px * random.normal(), noise[2 * k + 1] = sigma_px * random.normal();
  }
  const Eigen::MatrixXd information = product(by.transpose(), by);
  RingSeen seen;
  seen.identity = identity;
  seen.covariance = *inverse_symmetric(information) * sigma_px * sigma_px;
  seen.pixel_from_mark = homography_of(elements_of(h) + Eigen::Matrix<double, 8, 1>(solve_symmetric(
                                                            information, product(by.transpose(), noise))));
  seen.centre = apply(seen.pixel_from_mark, {});
  seen.angle = direction(apply(seen.pixel_from_mark, {0.01, 0}) - apply(seen.pixel_from_mark, {-0.01, 0}));
  seen.diameter_px = 2 * std::sqrt(std::abs(jacobian(seen.pixel_from_mark, {}).determinant()));
  seen.score = 99;
  return seen;
}

struct Table {
  CameraModel camera = camera_above(450, straight, 12_deg, 40_deg, 25_deg);
  Mapping mapping = CameraMapping(camera);
  std::vector<Pose2> places{{-60, -45, 20_deg}, {70, -40, -100_deg}, {5, 60, 170_deg}};

  std::vector<RingSeen> look(const CameraModel& from, const Pose2& world_from_table, double sigma_px,
                             Random& random, size_t count = 3) const {
    std::vector<RingSeen> seen;
    for (size_t k = 0; k < count; ++k)
      seen.push_back(
          seen_mark(static_cast<int>(k) + 1, world_from_table * places[k], 22, from, sigma_px, random));
    return seen;
  }
  std::vector<RingAnchor> anchors(double sigma_px, Random& random) const {
    std::vector<RingAnchor> list;
    for (const RingSeen& s : look(camera, {}, sigma_px, random)) list.push_back(anchor_ring(mapping, s));
    return list;
  }
};

}  // namespace

TEST_CASE("anchors' sigmas are those of their errors") {
  const Table table;
  Random random(1);
  int inside = 0, inside_angle = 0, inside_size = 0, all = 0;
  for (int run = 0; run < runs; ++run) {
    const auto anchors = table.anchors(0.01, random);
    for (size_t k = 0; k < anchors.size(); ++k, ++all) {
      const RingAnchor& a = anchors[k];
      inside += std::abs(a.place_mm.x - table.places[k].x) < 2 * a.sigma_mm;
      inside_angle += abs((a.angle.turn() - table.places[k].angle).wrapped()) < a.sigma_angle * 2;
      inside_size += std::abs(a.diameter_mm - 22) < 2 * a.sigma_diameter_mm;
    }
  }
  if (sanitized) return;
  for (const int count : {inside, inside_angle, inside_size}) {
    CHECK(count > 0.93 * all);
    CHECK(count < 0.97 * all);
  }
}

TEST_CASE("what is carried along the plane errs as much as it says, as a plane and as a camera") {
  const Table table;
  for (const bool plane : {false, true}) {
    const Mapping mapping = plane ? Mapping(PlaneMapping(pixel_from_table(table.camera))) : table.mapping;
    Random random(2);
    int inside_shift = 0, inside_turn = 0, inside_map = 0;
    double reduced_chi_square = 0;
    for (int run = 0; run < runs; ++run) {
      std::vector<RingAnchor> anchors;
      for (const RingSeen& s : table.look(table.camera, {}, 0.01, random))
        anchors.push_back(anchor_ring(mapping, s));
      const Pose2 moved{random.uniform(-9, 9), random.uniform(-9, 9), degrees(random.uniform(-8, 8))};
      const TransferredMapping c = transfer_mapping(
          mapping, anchors, table.look(table.camera, moved, 0.01, random), Motion::along_plane);
      const Point2 middle{5, -25.0 / 3};
      inside_shift += std::abs(c.shift_mm.x - (moved * middle - middle).x) < 2 * c.sigma_shift_mm;
      inside_turn += abs((c.turn - moved.angle).wrapped()) < c.sigma_turn * 2;
      reduced_chi_square += c.reduced_chi_square / runs;
      // A point of the table, seen where it is now.
      const Point2 at{30, 20}, w = moved * at;
      const Point2 pixel = table.camera.project({w.x, w.y, 0});
      const WorldPose mapped = c.mapping.world_pose(pixel, {});
      inside_map += std::abs(mapped.x_mm - at.x) < 2 * *mapped.sigma.x;
    }
    if (sanitized) continue;
    CAPTURE(plane);
    CHECK(reduced_chi_square == doctest::Approx(1).epsilon(0.1));
    for (const int count : {inside_shift, inside_turn, inside_map}) {
      CHECK(count > 0.92 * runs);
      CHECK(count <
            0.99 * runs);  // sigmas are widened where the reduced_chi_square is above 1, never narrowed
    }
  }
}

TEST_CASE("a camera that was bumped is carried freely by three marks, and errs as much as it says") {
  const Table table;
  Random random(3);
  int inside_tilt = 0, inside_map = 0, found = 0;
  for (int run = 0; run < runs / 2; ++run) {
    const auto anchors = table.anchors(0.01, random);
    CameraModel bumped = table.camera;
    const Pose3 bump{turn_of(0.03 * Eigen::Vector3d(random.normal(), random.normal(), random.normal())),
                     3 * Eigen::Vector3d(random.normal(), random.normal(), random.normal())};
    bumped.camera_from_world = bump * bumped.camera_from_world;
    const TransferredMapping c =
        transfer_mapping(table.mapping, anchors, table.look(bumped, {}, 0.01, random), Motion::free);
    found += c.reduced_chi_square < 9;
    const Point2 at{30, 20};
    const WorldPose mapped = c.mapping.world_pose(bumped.project({at.x, at.y, 0}), {});
    inside_map += std::abs(mapped.x_mm - at.x) < 2 * *mapped.sigma.x;
    const Pose3 truth = table.camera.camera_from_world.inverse() * bumped.camera_from_world;
    const Eigen::Vector3d off = rotation_vector_of(truth.rotation * c.old_from_now.rotation.conjugate());
    inside_tilt += std::abs(off.x()) < 2 * c.sigma_tilt.radians();
  }
  CHECK(found == runs / 2);
  if (sanitized) return;
  CHECK(inside_map > 0.92 * runs / 2);
  CHECK(inside_tilt > 0.88 * runs / 2);  // one sigma stands for both axes, which differ
}

TEST_CASE("one mark alone: both tilts are weighed, the nearer is taken, and its sigma is large") {
  const Table table;
  Random random(4);
  const auto anchors = table.anchors(0.02, random);
  CameraModel bumped = table.camera;
  bumped.camera_from_world = Pose3{turn_of({0.01, -0.005, 0.02}), {1, 2, -1}} * bumped.camera_from_world;
  const auto all = table.look(bumped, {}, 0.02, random);
  const TransferredMapping three = transfer_mapping(table.mapping, anchors, all, Motion::free),
                           one = transfer_mapping(table.mapping, anchors, {all[1]}, Motion::free);
  CHECK(one.identities == std::vector<int>{2});
  CHECK(one.sigma_tilt > three.sigma_tilt * 2);
  const Pose3 truth = table.camera.camera_from_world.inverse() * bumped.camera_from_world;
  const auto turned_by = [&](const TransferredMapping& c) {
    return rotation_vector_of(truth.rotation * c.old_from_now.rotation.conjugate()).norm();
  };
  CHECK(turned_by(three) < radians(2e-3).radians());
  CHECK(turned_by(one) < 5 * (one.sigma_tilt + one.sigma_turn).radians());
}

TEST_CASE("a mark that came loose, or the wrong size of a moved camera, is no motion along the plane") {
  const Table table;
  Random random(5);
  const auto anchors = table.anchors(0.01, random);
  auto loose = table.look(table.camera, {}, 0.01, random);
  loose[2] = seen_mark(3, Pose2{7, 62, 170_deg}, 22, table.camera, 0.01, random);
  CHECK(transfer_mapping(table.mapping, anchors, loose, Motion::along_plane).reduced_chi_square > 100);
  CHECK(check_mapping(table.mapping, anchors, loose).state == MappingState::changed);
  CameraModel higher = table.camera;
  higher.camera_from_world.position.z() += 5;
  CHECK(check_mapping(table.mapping, anchors, table.look(higher, {}, 0.01, random)).state ==
        MappingState::changed);
  CHECK(check_mapping(table.mapping, anchors, table.look(table.camera, {2, 0, {}}, 0.01, random)).state ==
        MappingState::moved);
  CHECK(check_mapping(table.mapping, anchors, table.look(table.camera, {}, 0.01, random)).state ==
        MappingState::holds);
}

TEST_CASE("poses of slanted marks err as much as they say, and the likelier tilt is mostly the true one") {
  Random random(6);
  int inside = 0, all = 0, right = 0;
  for (int run = 0; run < runs; ++run) {
    const CameraModel camera =
        camera_above(300, straight, degrees(random.uniform(20, 50)), degrees(random.uniform(-180, 180)),
                     degrees(random.uniform(-180, 180)));
    const Pose2 place{random.uniform(-30, 30), random.uniform(-25, 25), degrees(random.uniform(-180, 180))};
    const RingSeen seen = seen_mark(1, place, 30, camera, 0.01, random);
    const auto poses = ring_poses(seen, CameraMapping(CameraModel{straight, {}}), 30);
    REQUIRE(!poses.empty());
    const Pose3 truth =
        camera.camera_from_world * Pose3{turn_of({0, 0, place.angle.radians()}), {place.x, place.y, 0}};
    const Eigen::Vector3d turn = rotation_vector_of(truth.rotation *
                                                    poses[0].camera_from_ring.rotation.conjugate()),
                          shift = truth.position - poses[0].camera_from_ring.position;
    right += turn.norm() < 0.1;
    for (int k = 0; k < 3; ++k, all += 2) {
      inside += std::abs(turn[k]) < 2 * std::sqrt(poses[0].covariance(k, k));
      inside += std::abs(shift[k]) < 2 * std::sqrt(poses[0].covariance(k + 3, k + 3));
    }
  }
  CHECK(right > 0.99 * runs);
  if (sanitized) return;
  CHECK(inside > 0.93 * all);
  CHECK(inside < 0.97 * all);
}
