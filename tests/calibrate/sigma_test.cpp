#include <doctest/doctest.h>

#include "heron/calibrate/plane.hpp"
#include "heron/render/tray_station.hpp"
#include "sanitized.hpp"

using namespace heron;
using namespace heron::render;

namespace {

/// Board points seen by a tilted camera, each off by noise.
std::vector<BoardPoint> seen_points(const CameraModel& camera, const BoardShape& shape, double noise,
                                    Random& random) {
  std::vector<BoardPoint> points;
  for (int j = 0; j < shape.rows; ++j)
    for (int i = 0; i < shape.columns; ++i) {
      const Point2 p = shape.point(i, j);
      points.push_back({i, j,
                        camera.project({p.x - 100, p.y - 80, 0}) +
                            Point2{noise * random.normal(), noise * random.normal()}});
    }
  return points;
}

}  // namespace

TEST_CASE(
    "the mapping's sigmas are honest: the truth lies within two of them in 93 to 97 of a hundred "
    "calibrations") {
  Random random(8);
  const BoardShape shape{.columns = 9, .rows = 7, .pitch_mm = 20};
  const int runs = sanitized ? 50 : 2000;
  int x_inside = 0, y_inside = 0, angle_inside = 0;
  for (int run = 0; run < runs; ++run) {
    const CameraModel camera =
        camera_above(600, {.fx = 2400, .fy = 2400}, degrees(random.uniform(0, 20)),
                     degrees(random.uniform(-180, 180)), degrees(random.uniform(-180, 180)));
    const PlaneCalibration c =
        calibrate_plane(seen_points(camera, shape, 0.05, random), shape, 0, 1280, 1024);
    const Point2 at{random.uniform(0, 160), random.uniform(0, 120)};
    const auto pixel = [&](Point2 p) { return camera.project({p.x - 100, p.y - 80, 0}); };
    const Point2 ahead = pixel(at + Point2{1e-4, 0}) - pixel(at);
    const WorldPose pose = c.mapping.world_pose(pixel(at), direction(ahead));
    x_inside += std::abs(pose.x_mm - at.x) < 2 * *pose.sigma.x;
    y_inside += std::abs(pose.y_mm - at.y) < 2 * *pose.sigma.y;
    angle_inside += std::abs(pose.angle.degrees()) < 2 * pose.sigma.angle->degrees();
  }
  if (sanitized) return;
  for (const int inside : {x_inside, y_inside, angle_inside}) {
    CHECK(inside > 0.93 * runs);
    CHECK(inside < 0.97 * runs);
  }
}

TEST_CASE("points of several pictures of a still board make one better mapping") {
  Random random(9);
  const BoardShape shape{.columns = 9, .rows = 7, .pitch_mm = 20};
  const CameraModel camera = camera_above(600, {.fx = 2400, .fy = 2400}, 5_deg, 20_deg);
  std::vector<BoardPoint> points = seen_points(camera, shape, 0.05, random);
  const double once =
      *calibrate_plane(points, shape, 0, 1280, 1024).mapping.world_pose({600, 500}, {}).sigma.x;
  for (int k = 0; k < 3; ++k)
    for (const BoardPoint& p : seen_points(camera, shape, 0.05, random)) points.push_back(p);
  const double four_times =
      *calibrate_plane(points, shape, 0, 1280, 1024).mapping.world_pose({600, 500}, {}).sigma.x;
  CHECK(four_times == doctest::Approx(once / 2).epsilon(0.25));
}

TEST_CASE("outlier dots, hidden dots and a shadow do not lose the board") {
  const BoardShape shape{.kind = BoardKind::dots, .columns = 9, .rows = 7, .pitch_mm = 18};
  Scene scene;
  scene.camera = camera_above(600, {.fx = 2400, .fy = 2400});
  const Pose2 table_from_board{-72, -54, 12_deg};
  scene.pieces = board_pieces(shape, table_from_board, false);
  Outline outliers;
  for (const Point2 p : {Point2{-140, 30}, {-130, -90}, {135, 70}, {120, -100}})
    outliers.loops.push_back(disc(4, p).loops[0]);
  scene.pieces.push_back({outliers, {}, 0.8});
  scene.pieces.push_back({disc(11), {-10, 20, {}}, 0.45});  // a coin over some dots
  scene.light = {1.0, {0.9, 0.4}, 0.2};
  scene.glares.push_back({{500, 300}, 60, 0.15});
  Random random(10);
  const BoardSeen seen = find_board(expose(exact_picture(scene), {.sigma = 2}, random), shape);
  REQUIRE_MESSAGE(seen.found, seen.reason);
  CHECK(seen.points.size() >= 58);
  CHECK(seen.points.size() < 63);
  for (const BoardPoint& p : seen.points) {
    const Point2 t = table_from_board * shape.point(p.column, p.row);
    CHECK(distance(p.pixel, scene.camera.project({t.x, t.y, 0})) < 0.3);
  }
}
