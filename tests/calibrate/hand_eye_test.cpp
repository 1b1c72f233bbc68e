#include <doctest/doctest.h>

#include "heron/base/error.hpp"
#include "heron/calibrate/hand_eye.hpp"
#include "heron/render/random.hpp"
#include "sanitized.hpp"

using namespace heron;
using namespace heron::render;

namespace {

Eigen::Vector3d normal3(Random& r, double sigma) {
  return sigma * Eigen::Vector3d(r.normal(), r.normal(), r.normal());
}

/// A robot, a camera and a board whose poses are known, and stops that look at the board from all sides.
struct Cell {
  CameraMount mount = CameraMount::arm;
  Pose3 carrier_from_camera{turn_of({0.1, -0.2, 1.4}), {40, -25, 80}};
  Pose3 other_from_board{turn_of({3.0, 0.1, 0.2}), {520, -130, 15}};

  std::vector<HandEyeSample> stops(int count, double sigma_mm, double sigma_degrees, Random& random,
                                   double spread_degrees = 50) const {
    std::vector<HandEyeSample> list;
    for (int k = 0; k < count; ++k) {
      // The camera looks at the board's middle from about 450 mm.
      const double s = degrees(spread_degrees).radians();
      const Pose3 camera_from_board{
          turn_of({s * random.uniform(-0.6, 0.6), s * random.uniform(-0.6, 0.6), s * random.uniform(-1, 1)}) *
              Eigen::Quaterniond(0, 1, 0, 0),
          {random.uniform(-60, 60), random.uniform(-60, 60), random.uniform(380, 520)}};
      HandEyeSample stop;
      stop.name = "stop";
      const Pose3 board_from_camera = camera_from_board.inverse();
      const Pose3 carrier = mount == CameraMount::arm
                                ? other_from_board * board_from_camera * carrier_from_camera.inverse()
                                : carrier_from_camera * camera_from_board * other_from_board.inverse();
      stop.base_from_flange = {turn_of(normal3(random, degrees(sigma_degrees).radians())) * carrier.rotation,
                               carrier.position + normal3(random, sigma_mm)};
      const Eigen::Vector3d turned(7e-5 * random.normal(), 7e-5 * random.normal(), 1e-5 * random.normal()),
          shifted(random.normal() * 0.005, random.normal() * 0.005, random.normal() * 0.03);
      stop.camera_from_board = {turn_of(turned) * camera_from_board.rotation,
                                turn_of(turned) * camera_from_board.position + shifted};
      stop.covariance.setZero();
      stop.covariance.diagonal() << 49e-10, 49e-10, 1e-10, 25e-6, 25e-6, 9e-4;
      list.push_back(stop);
    }
    return list;
  }
};

}  // namespace

TEST_CASE(
    "hand-eye from 12 noisy stops: within 0.06 mm and 0.02 degrees an axis, camera on the arm or fixed, with "
    "honest sigmas") {
  for (const CameraMount mount : {CameraMount::arm, CameraMount::fixed}) {
    Cell cell;
    cell.mount = mount;
    if (mount == CameraMount::fixed)
      cell = {mount, {turn_of({2.9, 0.3, 0.1}), {600, 50, 700}}, {turn_of({0.2, 0.1, -0.4}), {-60, -45, 30}}};
    Random random(5);
    const int runs = sanitized ? 20 : 500;
    double mm = 0, turn = 0;
    Eigen::Matrix<double, 6, 1> inside = Eigen::Matrix<double, 6, 1>::Zero();
    for (int run = 0; run < runs; ++run) {
      const HandEyeCalibration c = solve_hand_eye(cell.stops(12, 0.05, 0.02, random), mount);
      const Eigen::Vector3d off_turn =
          rotation_vector_of(c.carrier_from_camera.rotation * cell.carrier_from_camera.rotation.conjugate());
      const Eigen::Vector3d off = c.carrier_from_camera.position - cell.carrier_from_camera.position;
      // A fixed camera hangs far from where the board was; what counts is the place of what it sees.
      const Eigen::Vector3d work =
          mount == CameraMount::arm ? Eigen::Vector3d(0, 0, 0) : Eigen::Vector3d(0, 0, 450);
      const Eigen::Vector3d off_work = c.carrier_from_camera * work - cell.carrier_from_camera * work;
      mm += off_work.squaredNorm() / (3 * runs), turn += off_turn.squaredNorm() / (3 * runs);
      for (int k = 0; k < 3; ++k) {
        inside[k] += std::abs(off_turn[k]) < 2 * std::sqrt(c.covariance(k, k));
        inside[k + 3] += std::abs(off[k]) < 2 * std::sqrt(c.covariance(k + 3, k + 3));
      }
    }
    if (sanitized) continue;
    MESSAGE("rms ", std::sqrt(mm), " mm, ", radians(std::sqrt(turn)).degrees(), " degrees");
    MESSAGE("within two sigmas ", (inside.transpose() / runs));
    CHECK(std::sqrt(mm) < 0.06);
    CHECK(radians(std::sqrt(turn)).degrees() < 0.02);
    for (int k = 0; k < 6; ++k) {
      CHECK(inside[k] > 0.91 * runs);
      CHECK(inside[k] < 0.985 * runs);
    }
  }
}

TEST_CASE("motions that determine nothing are refused with the reason") {
  Cell cell;
  Random random(6);
  std::vector<HandEyeSample> stops = cell.stops(10, 0, 0, random);
  std::vector<HandEyeSample> about_one_axis;
  for (int k = 0; k < 8; ++k) {
    HandEyeSample s = stops[0];
    const Pose3 turned{turn_of({0, 0, 0.15 * k}), {10.0 * k, 3.0 * k, 0}};
    s.base_from_flange = s.base_from_flange * turned;
    s.camera_from_board =
        cell.carrier_from_camera.inverse() * s.base_from_flange.inverse() * cell.other_from_board;
    about_one_axis.push_back(s);
  }
  CHECK_THROWS_WITH_AS(solve_hand_eye(about_one_axis, CameraMount::arm), doctest::Contains("one axis"),
                       Error);
  CHECK_THROWS_WITH_AS(solve_hand_eye(cell.stops(10, 0, 0, random, 2), CameraMount::arm),
                       doctest::Contains("at most"), Error);
  stops.resize(3);
  CHECK_THROWS_WITH_AS(solve_hand_eye(stops, CameraMount::arm), doctest::Contains("at least 4"), Error);
}

TEST_CASE("a stop that was written down wrong is left out, and poses read in a wrong way are recognised") {
  Cell cell;
  Random random(7);
  std::vector<HandEyeSample> stops = cell.stops(12, 0.05, 0.02, random);
  stops[5].base_from_flange.position.x() += 10;
  const HandEyeCalibration c = solve_hand_eye(stops, CameraMount::arm);
  CHECK_FALSE(c.stops[5].used);
  CHECK((c.carrier_from_camera.position - cell.carrier_from_camera.position).norm() < 0.3);
  CHECK(c.robot_sigma_mm == doctest::Approx(0.05).epsilon(0.4));
  stops[5].base_from_flange.position.x() -= 10;

  // The robot writes metres and rotation vectors.
  std::vector<RobotPoseRow> rows;
  for (const HandEyeSample& s : stops) {
    const Eigen::Vector3d v = rotation_vector_of(s.base_from_flange.rotation);
    rows.push_back({s.base_from_flange.position / 1000, {v.x(), v.y(), v.z()}});
  }
  for (size_t i = 0; i < stops.size(); ++i)
    stops[i].base_from_flange = *pose_of(rows[i], {RotationForm::zyx});
  const auto why = explain_misfit(rows, stops, {RotationForm::zyx}, CameraMount::arm, {75, 52.5});
  REQUIRE(why);
  CHECK(*why == "rotation-vector in radians, positions in metres (times 1000)");
}

TEST_CASE("rows that are swapped, the other mount, and a board read upside down are named") {
  Cell cell;
  Random random(11);
  const std::vector<HandEyeSample> stops = cell.stops(12, 0.05, 0.02, random);
  const auto explained = [](const std::vector<HandEyeSample>& as_read, CameraMount mount) {
    std::vector<RobotPoseRow> rows;
    for (const HandEyeSample& s : as_read) {
      const Eigen::Quaterniond& q = s.base_from_flange.rotation;
      rows.push_back({s.base_from_flange.position, {q.w(), q.x(), q.y(), q.z()}});
    }
    return explain_misfit(rows, as_read, {RotationForm::quaternion_wxyz}, mount, {75, 52.5}).value_or("");
  };
  CHECK(explained(stops, CameraMount::arm).empty());
  CHECK(explained(stops, CameraMount::fixed).find("--mount arm") != std::string::npos);
  std::vector<HandEyeSample> swapped = stops;
  std::swap(swapped[2].base_from_flange, swapped[9].base_from_flange);
  CHECK(explained(swapped, CameraMount::arm).find("rows 3 and 10 swapped") != std::string::npos);
  std::vector<HandEyeSample> turned = stops;
  for (const size_t i : {size_t{1}, size_t{6}})
    turned[i].camera_from_board = turned[i].camera_from_board * Pose3{{0, 0, 0, 1}, {150, 105, 0}};
  turned[1].name = "one", turned[6].name = "six";
  CHECK(explained(turned, CameraMount::arm).find("upside down in one, six") != std::string::npos);
  // One that was mistyped is none of these.
  std::vector<HandEyeSample> mistyped = stops;
  mistyped[4].base_from_flange.position.x() += 100;
  CHECK(explained(mistyped, CameraMount::arm).empty());
}

TEST_CASE("rotations are read in every form") {
  const Eigen::Quaterniond q = turn_of({0.3, -0.7, 1.1});
  CHECK(rotation_of(RotationForm::quaternion_xyzw, {q.x(), q.y(), q.z(), q.w()}, true)->angularDistance(q) <
        1e-12);
  CHECK(rotation_of(RotationForm::quaternion_wxyz, {q.w(), q.x(), q.y(), q.z()}, true)->angularDistance(q) <
        1e-12);
  CHECK_FALSE(rotation_of(RotationForm::quaternion_wxyz, {1, 1, 0, 0}, true));
  const Eigen::Vector3d zyx = q.toRotationMatrix().eulerAngles(2, 1, 0) * (180 / M_PI);
  CHECK(rotation_of(RotationForm::zyx, {zyx[0], zyx[1], zyx[2]}, true)->angularDistance(q) < 1e-12);
  const Eigen::Vector3d zyz = q.toRotationMatrix().eulerAngles(2, 1, 2);
  CHECK(rotation_of(RotationForm::zyz, {zyz[0], zyz[1], zyz[2]}, false)->angularDistance(q) < 1e-12);
  for (const RotationForm f : all_rotation_forms()) CHECK(rotation_form(name_of(f)) == f);
  CHECK_FALSE(rotation_form("roll-pitch"));
}

TEST_CASE("the centre of rotation of the tool from one part seen at several wrist angles") {
  Random random(8);
  for (const int sense : {1, -1}) {
    std::vector<Angle> wrist;
    std::vector<Point2> seen;
    for (int k = 0; k < 8; ++k) {
      wrist.push_back(degrees(40 * k));
      seen.push_back(Point2{320, -75} + rotated({12, 5}, degrees(40 * k * sense)) +
                     Point2{0.02 * random.normal(), 0.02 * random.normal()});
    }
    const TurningCentre c = find_turning_centre(wrist, seen);
    CHECK(distance(c.centre_mm, {320, -75}) < 0.04);
    CHECK(distance(c.part_mm, {12, 5}) < 0.05);
    CHECK(c.turns_backwards == (sense < 0));
    CHECK(c.sigma_mm == doctest::Approx(0.02 / std::sqrt(8.0)).epsilon(0.6));
  }
  CHECK_THROWS_AS(find_turning_centre({0_deg, 1_deg, 2_deg}, {{1, 1}, {1, 1.1}, {1, 1.2}}), Error);
  CHECK_THROWS_AS(find_turning_centre({0_deg, 90_deg}, {{1, 1}, {1, 2}}), Error);
}
