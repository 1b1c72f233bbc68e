#include <doctest/doctest.h>

#include "heron/base/error.hpp"
#include "heron/calibrate/lens.hpp"
#include "heron/render/tray_station.hpp"
#include "sanitized.hpp"

using namespace heron;
using namespace heron::render;

namespace {

const BoardShape checker{.kind = BoardKind::checker, .columns = 11, .rows = 8, .pitch_mm = 15};

/// Cameras around a board whose middle is the world's zero: tilted by up to 40 degrees, near and far, shifted
/// in the picture.
CameraModel any_view(const Lens& lens, Random& random) {
  CameraModel c = camera_above(random.uniform(380, 520), lens, degrees(random.uniform(5, 40)),
                               degrees(random.uniform(-180, 180)), degrees(random.uniform(-180, 180)));
  c.camera_from_world.position += Eigen::Vector3d(random.uniform(-60, 60), random.uniform(-45, 45), 0);
  return c;
}

Eigen::Vector3d place_of(const BoardShape& shape, int i, int j) {
  const Point2 p = shape.point(i, j) -
                   Point2{(shape.columns - 1) * shape.pitch_mm / 2, (shape.rows - 1) * shape.pitch_mm / 2};
  return {p.x, p.y, 0};
}

BoardView seen_by(const CameraModel& camera, const BoardShape& shape, double noise, Random& random) {
  BoardView view{"view", {}, 0};
  for (int j = 0; j < shape.rows; ++j)
    for (int i = 0; i < shape.columns; ++i) {
      const Point2 p =
          camera.project(place_of(shape, i, j)) + Point2{noise * random.normal(), noise * random.normal()};
      if (p.x > 5 && p.y > 5 && p.x < 1274 && p.y < 1018) view.points.push_back({i, j, p});
    }
  return view;
}

std::vector<BoardView> views_of(const Lens& lens, int count, double noise, Random& random) {
  std::vector<BoardView> views;
  while (static_cast<int>(views.size()) < count) {
    BoardView v = seen_by(any_view(lens, random), checker, noise, random);
    if (v.points.size() > 60) views.push_back(std::move(v));
  }
  return views;
}

}  // namespace

TEST_CASE(
    "ten drawn pictures of a checkerboard give focal length and principal point to 0.15 px and k1 to 0.001") {
  const Lens truth{
      .fx = 1900, .fy = 1902, .cx = 645.3, .cy = 508.8, .k1 = -0.12, .k2 = 0.05, .p1 = 0.0004, .p2 = -0.0003};
  Random random(11);
  std::vector<BoardView> views;
  for (int v = 0; v < 10; ++v) {
    Scene scene;
    scene.camera = any_view(truth, random);
    scene.light = {1.0, {0.1, -0.1}, 0.1};
    scene.pieces = board_pieces(checker, {-75, -52.5, {}});
    const BoardSeen seen =
        find_board(expose(exact_picture(scene), {.sigma = 2}, random), checker, {.any_part = true});
    REQUIRE_MESSAGE(seen.found, seen.reason);
    views.push_back({"view", seen.points, 0, seen.whole || seen.marked});
  }
  const LensCalibration c = calibrate_lens(views, checker, 1280, 1024);
  const Lens l = c.mapping.camera().lens;
  MESSAGE("fx ", l.fx - truth.fx, " fy ", l.fy - truth.fy, " cx ", l.cx - truth.cx, " cy ", l.cy - truth.cy,
          " k1 ", l.k1 - truth.k1, " rms ", c.rms_px);
  CHECK(std::abs(l.fx - truth.fx) < 0.15);
  CHECK(std::abs(l.fy - truth.fy) < 0.15);
  CHECK(std::abs(l.cx - truth.cx) < 0.15);
  CHECK(std::abs(l.cy - truth.cy) < 0.15);
  CHECK(std::abs(l.k1 - truth.k1) < 0.001);
  CHECK(c.rms_px < 0.02);
  CHECK_FALSE(c.k3_free);
}

TEST_CASE(
    "lens parameters lie within their own sigmas, with lens, poses and noise drawn at random and k3 in half "
    "the runs") {
  Random random(12);
  const int runs = sanitized ? 20 : 400;  // bench/bench_calibrate draws 2000
  Eigen::Matrix<double, 9, 1> inside2 = Eigen::Matrix<double, 9, 1>::Zero(), inside3 = inside2;
  int counted = 0, k3_runs = 0;
  for (int run = 0; run < runs; ++run) {
    Lens truth{.fx = random.uniform(1500, 2300),
               .cx = random.uniform(620, 660),
               .cy = random.uniform(490, 530),
               .k1 = random.uniform(-0.25, 0.15),
               .k2 = random.uniform(-0.1, 0.2),
               .p1 = random.uniform(-1e-3, 1e-3),
               .p2 = random.uniform(-1e-3, 1e-3)};
    truth.fy = truth.fx * random.uniform(0.998, 1.002);
    if (run % 2) truth.k3 = random.uniform(0.5, 2) * (random.uniform() < 0.5 ? -1 : 1);
    const LensCalibration c =
        calibrate_lens(views_of(truth, 10, random.uniform(0.01, 0.05), random), checker, 1280, 1024);
    const LensVector off = vector_of(c.mapping.camera().lens) - vector_of(truth);
    const LensVector sigma = c.mapping.covariance().diagonal().head<9>().cwiseSqrt();
    k3_runs += c.k3_free;
    ++counted;
    for (int k = 0; k < 8; ++k)
      inside2[k] += std::abs(off[k]) < 2 * sigma[k], inside3[k] += std::abs(off[k]) < 3 * sigma[k];
  }
  MESSAGE("k3 estimated in ", k3_runs, " of ", runs);
  if (sanitized) return;
  for (int k = 0; k < 8; ++k) {
    CAPTURE(k);
    MESSAGE((inside2[k] / counted), " ", (inside3[k] / counted));
    CHECK(inside3[k] > 0.98 * counted);
    CHECK(inside2[k] > 0.92 * counted);
    CHECK(inside2[k] < 0.985 * counted);
  }
}

TEST_CASE(
    "a part above the plane maps right at the picture's corner, and so does a distance from an apparent "
    "width") {
  const Lens truth{.fx = 1900, .fy = 1902, .cx = 645.3, .cy = 508.8, .k1 = -0.12, .k2 = 0.05};
  Random random(13);
  std::vector<BoardView> views = views_of(truth, 12, 0.015, random);
  const CameraModel above = camera_above(450, truth, 4_deg, 30_deg);
  views.insert(views.begin(), seen_by(above, checker, 0.015, random));
  const LensCalibration c = calibrate_lens(views, checker, 1280, 1024);
  const WorldPoint middle{75, 52.5};  // the board's frame begins at its first corner
  for (const Point2 corner : {Point2{20, 20}, {1260, 20}, {20, 1004}, {1260, 1004}}) {
    const WorldPoint at = *above.plane_point(corner, 30);
    const WorldPose p = c.mapping.world_pose(corner, {}, exact_pose, 30);
    CHECK(distance(p.position(), at + middle) < 0.03);
    CHECK(*p.sigma.x < 0.02);
    CHECK(p.z_mm == 30);
    CHECK(distance(c.mapping.pixel_from_world({p.x_mm, p.y_mm}, 30), corner) < 1e-6);
  }
  for (int k = 0; k < 200; ++k) {
    const double z = random.uniform(200, 3000), width = random.uniform(0.05, 0.15) * z;
    const Eigen::Vector3d place(random.uniform(-0.28, 0.28) * z, random.uniform(-0.22, 0.22) * z, z);
    const double turned = random.uniform(-3, 3);
    const Eigen::Vector3d half = 0.5 * width * Eigen::Vector3d(std::cos(turned), std::sin(turned), 0);
    const WidthDistance d =
        c.mapping.distance_of_width(project(truth, place - half), project(truth, place + half), width);
    CHECK(d.along_axis_mm == doctest::Approx(z).epsilon(0.005));
    CHECK(d.along_ray_mm == doctest::Approx(place.norm()).epsilon(0.005));
    CHECK(d.bearing.radians() == doctest::Approx(std::atan2(place.x(), z)).epsilon(0.01));
    // Turned towards the camera, as a ball.
    const Eigen::Vector3d across = place.cross(Eigen::Vector3d::UnitY()).normalized() * 0.5 * width;
    const WidthDistance ball = c.mapping.distance_of_width(
        project(truth, place - across), project(truth, place + across), width, WidthLies::across_ray);
    CHECK(ball.along_ray_mm == doctest::Approx(place.norm()).epsilon(0.005));
  }
}

TEST_CASE("one picture of a board through a known lens gives a plane that serves every height") {
  const Lens truth{.fx = 1900, .fy = 1902, .cx = 645.3, .cy = 508.8, .k1 = -0.12, .k2 = 0.05};
  const CameraModel above = camera_above(460, truth, 8_deg, 60_deg);
  const BoardShape dots{.kind = BoardKind::dots, .columns = 13, .rows = 9, .pitch_mm = 15};
  Scene scene;
  scene.camera = above;
  scene.pieces = board_pieces(dots, {-90, -60, {}});
  Random random(14);
  const BoardSeen seen = find_board(expose(exact_picture(scene), {.sigma = 2}, random), dots);
  REQUIRE_MESSAGE(seen.found, seen.reason);
  const PoseCalibration c =
      calibrate_pose({"plane", seen.points, seen.dot_radius_px}, dots, CameraMapping({truth, {}}));
  CHECK(c.sigma_px < 0.04);
  for (const double height : {-10.0, 0.0, 40.0}) {
    const WorldPoint at = *above.plane_point({1200, 900}, height);
    CHECK(distance(c.mapping.world_from_pixel({1200, 900}, height), at + WorldPoint{90, 60}) < 0.03);
  }
  // The lens' own uncertainty shows in the pose.
  CameraMapping::Covariance unsure = CameraMapping::Covariance::Zero();
  unsure(0, 0) = unsure(1, 1) = 100;
  const PoseCalibration less =
      calibrate_pose({"plane", seen.points, seen.dot_radius_px}, dots, CameraMapping({truth, {}}, unsure));
  CHECK(*less.mapping.world_pose({1200, 900}, {}, exact_pose, 40).sigma.x >
        3 * *c.mapping.world_pose({1200, 900}, {}, exact_pose, 40).sigma.x);
}

TEST_CASE("a view that does not belong is named, and views without tilt determine nothing") {
  const Lens truth{.fx = 1900, .fy = 1900, .k1 = -0.1};
  Random random(15);
  std::vector<BoardView> views = views_of(truth, 9, 0.02, random);
  for (BoardPoint& p : views[4].points)
    p.pixel += Point2{0.5 * random.normal(), 0.5 * random.normal()};  // blurred
  views[2].points[7].pixel += Point2{3, 1};                           // one outlier point
  const LensCalibration c = calibrate_lens(views, checker, 1280, 1024);
  CHECK_FALSE(c.views[4].used);
  CHECK(c.views[4].reason.find("blurred") != std::string::npos);
  REQUIRE(c.left_out.size() == 1);
  CHECK(std::abs(c.mapping.camera().lens.fx - 1900) < 1);

  std::vector<BoardView> flat;
  for (int v = 0; v < 6; ++v)
    flat.push_back(
        seen_by(camera_above(400 + 20 * v, truth, {}, {}, degrees(30 * v)), checker, 0.02, random));
  CHECK_THROWS_WITH_AS(calibrate_lens(flat, checker, 1280, 1024), doctest::Contains("Tilt it"), Error);
  flat.resize(2);
  CHECK_THROWS_WITH_AS(calibrate_lens(flat, checker, 1280, 1024), doctest::Contains("at least 3"), Error);
  CHECK_THROWS_AS(calibrate_lens({}, checker, 1280, 1024), Error);
  views.resize(4);
  bool covers = false;
  for (const std::string& words : calibrate_lens(views, checker, 1280, 1024).advice)
    covers = covers || words.find("views are used") != std::string::npos;
  CHECK(covers);
}
