#include "heron/simulation/arm_cell.hpp"

#include <fmt/format.h>

#include <filesystem>

#include "heron/base/error.hpp"
#include "heron/files/atomic_file.hpp"
#include "heron/files/picture_file.hpp"
#include "heron/render/tray_station.hpp"

namespace heron {
namespace {

using namespace render;

constexpr double robot_error_mm = 0.05;
constexpr Angle robot_error = degrees(0.02);

Eigen::Vector3d normal3(Random& random) { return {random.normal(), random.normal(), random.normal()}; }

/// A view of the board from about 420 mm, tilted by up to 32 degrees and turned by up to 50; the first looks
/// nearly straight down.
Pose3 camera_from_board(const BoardShape& board, int stop, Random& random) {
  const double tilt = stop == 0 ? 4 : random.uniform(12, 32);
  const CameraModel camera =
      camera_above(random.uniform(400, 460), {}, degrees(tilt),
                   degrees(137.5 * stop + random.uniform(-20, 20)), degrees(random.uniform(-50, 50)));
  Pose3 pose = camera.camera_from_world;
  if (stop > 0) pose.position += Eigen::Vector3d(random.uniform(-50, 50), random.uniform(-38, 38), 0);
  const Eigen::Vector3d middle((board.columns - 1) * board.pitch_mm / 2,
                               (board.rows - 1) * board.pitch_mm / 2, 0);
  return pose * Pose3{Eigen::Quaterniond::Identity(), -middle};
}

Scene scene_of(const ArmCell& cell, const Pose3& camera_from_board, uint64_t seed, Random& random) {
  Scene scene;
  scene.camera = {cell.lens, camera_from_board};
  scene.texture = 0.01, scene.texture_seed = seed + 1;
  scene.light = {1.0, {random.uniform(-0.2, 0.2), random.uniform(-0.2, 0.2)}, 0.15};
  return scene;
}

void put_marks(Scene& scene, const ArmCell& cell, const Pose2& world_from_board) {
  for (size_t k = 0; k < cell.marks.size(); ++k) {
    const Pose2 at = world_from_board * cell.board_from_mark[k];
    const double side = 1.5 * cell.marks[k].diameter_mm;
    scene.pieces.push_back({rectangle(side, side), at, 0.88});
    scene.pieces.push_back({ring_mark(cell.marks[k]), at, 0.06});
  }
}

std::string row_of(const Pose3& p) {
  // Rz Ry Rx, as its name says: z, then the new y, then the new x.
  const Eigen::Matrix3d r = p.rotation.toRotationMatrix();
  const double y = std::asin(std::clamp(-r(2, 0), -1.0, 1.0)), z = std::atan2(r(1, 0), r(0, 0)),
               x = std::atan2(r(2, 1), r(2, 2));
  return fmt::format("{:.4f},{:.4f},{:.4f},{:.5f},{:.5f},{:.5f}\n", p.position.x(), p.position.y(),
                     p.position.z(), radians(z).degrees(), radians(y).degrees(), radians(x).degrees());
}

}  // namespace

ArmCell write_arm_cell(const std::string& folder, uint64_t seed, int stops) {
  if (stops < 1 || stops > 99) fail_argument(fmt::format("arm: {} stops; 1 to 99 are possible", stops));
  std::error_code error;
  std::filesystem::create_directories(folder, error);
  if (error)
    throw Error(ErrorCode::not_writable, ErrorPlace{folder},
                fmt::format("cannot be made: {}", error.message()));
  Random random(seed);
  ArmCell cell;
  cell.folder = folder;
  cell.lens = {.fx = random.uniform(1750, 2000),
               .cx = random.uniform(625, 655),
               .cy = random.uniform(495, 525),
               .k1 = random.uniform(-0.18, -0.06),
               .k2 = random.uniform(0, 0.1),
               .p1 = random.uniform(-5e-4, 5e-4),
               .p2 = random.uniform(-5e-4, 5e-4)};
  cell.lens.fy = cell.lens.fx * random.uniform(0.999, 1.001);
  cell.flange_from_camera = {turn_of(0.1 * normal3(random)),
                             {random.uniform(30, 60), random.uniform(-20, 20), random.uniform(60, 90)}};
  cell.robot_from_board = {turn_of({0.01 * random.normal(), 0.01 * random.normal(), random.uniform(-1, 1)}),
                           {random.uniform(350, 450), random.uniform(-150, 50), 12}};
  cell.marks = {{3, 22}, {8, 22}, {15, 22}};
  cell.board_from_mark = {{25, -42, degrees(20)}, {140, -42, degrees(-75)}, {75, 146, degrees(140)}};
  std::string poses = "x,y,z,rz,ry,rx\n";
  for (int stop = 0; stop < stops; ++stop) {
    Scene scene = scene_of(cell, camera_from_board(cell.board, stop, random), seed, random);
    if (stop == 0) cell.camera_from_board = scene.camera.camera_from_world;
    scene.pieces = board_pieces(cell.board, {});
    put_marks(scene, cell, {});
    save_picture(cell.path(fmt::format("stop-{:02}.png", stop + 1)),
                 expose(exact_picture(scene), {.sigma = 2}, random));
    const Pose3 flange =
        cell.robot_from_board * scene.camera.camera_from_world.inverse() * cell.flange_from_camera.inverse();
    cell.robot_from_flange.push_back(flange);
    poses += row_of({turn_of(robot_error.radians() * normal3(random)) * flange.rotation,
                     flange.position + robot_error_mm * normal3(random)});
  }
  write_file(cell.path("poses.csv"), poses);

  cell.old_from_moved = {random.uniform(-8, 8), random.uniform(-8, 8), degrees(random.uniform(-5, 5))};
  Scene moved = scene_of(cell, cell.camera_from_board, seed, random);
  put_marks(moved, cell, cell.old_from_moved);
  save_picture(cell.path("moved.png"), expose(exact_picture(moved), {.sigma = 2}, random));
  cell.camera_from_board_bumped =
      Pose3{turn_of(0.02 * normal3(random)), 4 * normal3(random)} * cell.camera_from_board;
  Scene bumped = scene_of(cell, cell.camera_from_board_bumped, seed, random);
  put_marks(bumped, cell, {});
  save_picture(cell.path("bumped.png"), expose(exact_picture(bumped), {.sigma = 2}, random));
  return cell;
}

}  // namespace heron
