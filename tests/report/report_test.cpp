#include <doctest/doctest.h>

#include <Eigen/Dense>

#include "heron/base/error.hpp"
#include "heron/report/report.hpp"

using namespace heron;

namespace {
Report report_of(FindResult result, const Frames& frames, const PartGeometry& place = {}) {
  Report report;
  add_result(report, std::move(result), frames, place);
  return report;
}

FindResult one_at(double x, double y, double angle) {
  FindResult result;
  result.detections.push_back(
      {.target = "leaf", .x = x, .y = y, .angle = degrees(angle), .sigma = {0.02, 0.01, degrees(0.01), 0}});
  return result;
}
}  // namespace

TEST_CASE("a report carries a part from the picture to the robot's frame") {
  Homography pixel_from_world;
  pixel_from_world << 4, 0, 600, 0, -4, 500, 0, 0, 1;
  const Mapping mapping = PlaneMapping(pixel_from_world);
  const RobotFromWorld robot_from_world{1000, 2000, WorldAngle{90_deg}};
  const Report report = report_of(one_at(640, 460, -30), {&mapping, nullptr, &robot_from_world});
  REQUIRE(report.parts.size() == 1);
  const ReportedPart& part = report.parts[0];
  REQUIRE(part.world);
  CHECK(part.world->x_mm == doctest::Approx(10));
  CHECK(part.world->y_mm == doctest::Approx(10));
  CHECK(part.world->angle.degrees() == doctest::Approx(30));
  CHECK(*part.world->sigma.x == doctest::Approx(0.005));
  CHECK(*part.world->sigma.y == doctest::Approx(0.0025));
  REQUIRE(part.robot);
  CHECK(part.robot->x_mm == doctest::Approx(990));
  CHECK(part.robot->y_mm == doctest::Approx(2010));
  CHECK(part.robot->angle.degrees() == doctest::Approx(120));
  CHECK(*part.robot->sigma.x == doctest::Approx(0.0025));  // turned by 90 degrees with the frame
}

TEST_CASE("without a mapping there is no world, without a frame no robot, and past the horizon neither") {
  const Report bare = report_of(one_at(1, 2, 3), {});
  CHECK_FALSE(bare.parts[0].world);
  Homography tilted;
  tilted << 4, 0, 600, 0, -4, 500, 0, 1e-3, 1;
  const Mapping mapping = PlaneMapping(tilted);
  CHECK_FALSE(report_of(one_at(0, 0, 0), {&mapping}).parts[0].robot);
  const RobotFromWorld frame;
  const Report horizon = report_of(one_at(0, -4000, 0), {&mapping, nullptr, &frame});
  CHECK_FALSE(horizon.parts[0].world);
  CHECK_FALSE(horizon.parts[0].robot);
}

TEST_CASE("what a detection does not know stays unknown in the world and for the robot") {
  Homography straight;
  straight << 4, 0, 600, 0, -4, 500, 0, 0, 1;
  Homography turned = straight;
  turned.topLeftCorner<2, 2>() << 3, 2, 2, -3;
  FindResult edge = one_at(640, 460, 0);
  edge.detections[0].has_angle = false;
  edge.detections[0].sigma = {.x = 0.02};  // an upright edge
  const Mapping along = PlaneMapping(straight), across = PlaneMapping(turned);
  const RobotFromWorld quarter{0, 0, WorldAngle{90_deg}};
  const ReportedPart part = report_of(edge, {&along, nullptr, &quarter}).parts.at(0);
  CHECK(*part.world->sigma.x == doctest::Approx(0.005));
  CHECK_FALSE(part.world->sigma.y);
  CHECK_FALSE(part.world->sigma.angle);
  CHECK_FALSE(part.robot->sigma.x);
  CHECK(*part.robot->sigma.y == doctest::Approx(0.005));
  const ReportedPart leaning = report_of(edge, {&across}).parts.at(0);
  CHECK_FALSE(leaning.world->sigma.x);
  CHECK_FALSE(leaning.world->sigma.y);
  // A grasp beside the origin of a part without an angle may lie anywhere around it.
  edge.detections[0].sigma.y = 0.02;
  CHECK(report_of(edge, {&along, nullptr, &quarter}).parts[0].robot->sigma.x);
  CHECK_FALSE(report_of(edge, {&along, nullptr, &quarter}, {.grasp = {5, 0, {}}}).parts[0].robot->sigma.x);
}

TEST_CASE("the robot takes a part at its grasp, and the user's axes count the world their own way") {
  Homography pixel_from_world;
  pixel_from_world << 4, 0, 600, 0, -4, 500, 0, 0, 1;
  const Mapping mapping = PlaneMapping(pixel_from_world);
  const RobotFromWorld robot_from_world;
  const Axes axes{.zero_mm = {5, 5}, .x = AxisDirection::plus_y, .y = AxisDirection::minus_x};
  const Report report = report_of(one_at(640, 460, -30), {&mapping, &axes, &robot_from_world},
                                  {.grasp = {20, 0, WorldAngle{90_deg}}});
  const ReportedPart& part = report.parts[0];
  // The origin at (10, 10), turned by 30 degrees; the grasp 20 mm along the part's own x.
  CHECK(part.robot->x_mm == doctest::Approx(10 + 20 * std::cos(M_PI / 6)));
  CHECK(part.robot->y_mm == doctest::Approx(20));
  CHECK(part.robot->angle.degrees() == doctest::Approx(120));
  CHECK(part.world->x_mm == doctest::Approx(5));
  CHECK(part.world->y_mm == doctest::Approx(-5));
  CHECK(part.world->angle.degrees() == doctest::Approx(-60));
  CHECK_THROWS_WITH_AS(report_of(one_at(640, 460, 0), {&mapping}, {.height_mm = 8}),
                       doctest::Contains("knows nothing of heights"), Error);
}

TEST_CASE("areas, points and lengths are told in millimetres too") {
  Homography pixel_from_world;
  pixel_from_world << 4, 0, 600, 0, -4, 500, 0.0002, 0, 1;  // looked at from one side
  const Mapping mapping = PlaneMapping(pixel_from_world);
  const auto pixel = [&](double x, double y) { return mapping.pixel_from_world({x, y}); };
  FindResult result = one_at(pixel(0, 0).x, pixel(0, 0).y, 0);
  Detection& s = result.detections[0];
  s.measurements = {{"area", 1600, MeasurementUnit::square_pixels}, {"seen", 100}};
  s.points = {{"corner1", pixel(-30, 20), {0.02, 0.02}}};
  s.lengths = {{"side1", pixel(-30, 20), pixel(50, 20)}};
  const Axes axes{.zero_mm = {10, 0}};
  const ReportedPart part = report_of(result, {&mapping, &axes, nullptr}).parts.at(0);
  // At the world's zero u grows by 4 - 600 * 0.0002 a millimetre, v by 4.
  CHECK(*part.detection.measurement("area_mm2") == doctest::Approx(1600 / (3.88 * 4)).epsilon(1e-4));
  CHECK_FALSE(part.detection.measurement("seen_mm2"));
  REQUIRE(part.points_mm.size() == 1);
  CHECK(part.points_mm[0].x == doctest::Approx(-40));
  CHECK(part.points_mm[0].y == doctest::Approx(20));
  CHECK(part.lengths_mm.at(0) == doctest::Approx(80));
  const ReportedPart bare = report_of(result, {}).parts.at(0);
  CHECK(bare.points_mm.empty());
  CHECK_FALSE(bare.detection.measurement("area_mm2"));
}

TEST_CASE("what has a known size is placed in space by a known camera") {
  // Looks along the world's X from 200 mm above the floor.
  Eigen::Matrix3d axes;  // of the camera, in the world
  axes << 0, 0, 1, -1, 0, 0, 0, -1, 0;
  const Pose3 world_from_camera{Eigen::Quaterniond(axes), {50, 0, 200}};
  const Lens lens{.fx = 500, .fy = 500, .cx = 320, .cy = 240};
  const Mapping mapping = CameraMapping({lens, world_from_camera.inverse()});
  const RobotFromWorld robot_from_world{10, 20, {}};
  const CameraModel& camera = mapping.camera()->camera();
  const auto pixel = [&](double x, double y, double z) { return camera.project({x, y, z}); };

  // A hole of 40 mm, 450 mm before the camera, 30 mm to its left, 20 mm below its axis.
  FindResult hole;
  const Point2 at = pixel(500, 30, 180);
  hole.detections.push_back({.target = "bore", .x = at.x, .y = at.y, .sigma = {0.01, 0.01, {}, 0}});
  hole.detections[0].lengths = {{"diameter", pixel(500, 50, 180), pixel(500, 10, 180), 0.02}};
  const ReportedPart bore =
      report_of(hole, {&mapping, nullptr, &robot_from_world}, {.size_mm = 40}).parts.at(0);
  REQUIRE(bore.distance);
  CHECK(bore.distance->along_axis_mm == doctest::Approx(450));
  CHECK(bore.distance->along_ray_mm == doctest::Approx(std::hypot(450, 30, 20)));
  CHECK(bore.distance->bearing.degrees() == doctest::Approx(radians(std::atan2(-30, 450)).degrees()));
  CHECK(bore.world->x_mm == doctest::Approx(500));
  CHECK(bore.world->y_mm == doctest::Approx(30));
  CHECK(bore.world->z_mm == doctest::Approx(180));
  CHECK(bore.robot->x_mm == doctest::Approx(510));
  CHECK(*bore.world->sigma.x > 0.1);  // 0.03 px of 44 px, 450 mm away
  CHECK(*bore.world->sigma.x < 1);

  // A plate of 200 x 130 mm, turned by five degrees; its first side is the upper one.
  FindResult wall;
  const Point2 middle = pixel(600, -40, 150);
  wall.detections.push_back({.target = "plate", .x = middle.x, .y = middle.y});
  wall.detections[0].taught_length = 260;
  int number = 0;
  for (const auto& [right, up] : {std::pair{-100, 65}, {100, 65}, {100, -65}, {-100, -65}}) {
    const Point2 foot = Pose2{600, -40, degrees(-85)} * Point2{static_cast<double>(right), 0};
    wall.detections[0].points.push_back({"corner" + std::to_string(++number),
                                         pixel(foot.x, foot.y, 150 + up),
                                         {0.03, 0.03},
                                         {1.3 * right, -1.3 * up}});
  }
  const ReportedPart plate =
      report_of(wall, {&mapping, nullptr, &robot_from_world}, {.size_mm = 200}).parts.at(0);
  REQUIRE(plate.world);
  CHECK(plate.world->x_mm == doctest::Approx(600));
  CHECK(plate.world->y_mm == doctest::Approx(-40));
  CHECK(plate.world->z_mm == doctest::Approx(150));
  CHECK(plate.world->angle.degrees() == doctest::Approx(-85));
  CHECK(plate.world->sigma.angle->degrees() < 0.2);
  CHECK(plate.distance->along_axis_mm == doctest::Approx(550));

  // A plane alone knows no distances.
  const Mapping plane = PlaneMapping(Homography::Identity());
  CHECK_THROWS_AS(report_of(hole, {&plane}, {.size_mm = 40}), Error);
}

TEST_CASE("a round hole seen from the side lies where its circle does, not its ellipse's middle") {
  Homography pixel_from_world;
  pixel_from_world << 4, 0.3, 600, 0, -3, 500, 0.0004, 0.0025, 1;
  const Mapping mapping = PlaneMapping(pixel_from_world);
  const Point2 centre{12, 20};
  const double radius = 15;
  // The conic of the circle, carried into the picture; its middle and axes there.
  Eigen::Matrix3d conic;
  conic << 1, 0, -centre.x, 0, 1, -centre.y, -centre.x, -centre.y, dot(centre, centre) - radius * radius;
  const Eigen::Matrix3d back = pixel_from_world.inverse(), seen = back.transpose() * conic * back;
  const Eigen::Matrix2d a = seen.topLeftCorner<2, 2>();
  const Eigen::Vector2d middle = -a.inverse() * seen.topRightCorner<2, 1>();
  const double level = -(middle.dot(a * middle) + 2 * middle.dot(seen.topRightCorner<2, 1>()) + seen(2, 2));
  // x = middle + M u with M M' = level a^-1, M symmetric.
  const Eigen::SelfAdjointEigenSolver<Eigen::Matrix2d> axes(level * a.inverse());
  const Eigen::Matrix2d m = axes.operatorSqrt();
  FindResult result = one_at(middle.x(), middle.y(), 0);
  result.detections[0].rim =
      Ellipse{{middle.x(), middle.y()}, 0.5 * (m(0, 0) + m(1, 1)), 0.5 * (m(0, 0) - m(1, 1)), m(0, 1)};
  const WorldPoint taken_as_it_is = mapping.world_from_pixel({middle.x(), middle.y()});
  CHECK(distance(taken_as_it_is.plain(), centre) > 0.2);
  const RobotFromWorld robot_from_world{100, 50, {}};
  const ReportedPart part = report_of(result, {&mapping, nullptr, &robot_from_world}).parts.at(0);
  CHECK(part.robot->x_mm == doctest::Approx(100 + centre.x).epsilon(1e-6));  // the robot is sent there too
  CHECK(part.robot->y_mm == doctest::Approx(50 + centre.y).epsilon(1e-6));
  CHECK(part.world->x_mm == doctest::Approx(centre.x).epsilon(1e-6));
  CHECK(part.world->y_mm == doctest::Approx(centre.y).epsilon(1e-6));
  CHECK(*part.detection.measurement("diameter_mm") == doctest::Approx(2 * radius).epsilon(1e-6));
}
