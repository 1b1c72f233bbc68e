#include <doctest/doctest.h>

#include "heron/base/error.hpp"
#include "heron/report/report.hpp"

using namespace heron;

namespace {
Report report_of(Findings findings, const Frames& frames, const PartPlace& place = {}) {
  Report report;
  add_findings(report, std::move(findings), frames, place);
  return report;
}

Findings one_at(double x, double y, double angle) {
  Findings findings;
  findings.sightings.push_back(
      {.target = "leaf", .x = x, .y = y, .angle = degrees(angle), .sigma = {0.02, 0.01, degrees(0.01), 0}});
  return findings;
}
}  // namespace

TEST_CASE("a report carries a part from the picture to the robot's frame") {
  Homography pixel_from_world;
  pixel_from_world << 4, 0, 600, 0, -4, 500, 0, 0, 1;
  const Mapping mapping = PlaneMapping(pixel_from_world);
  const Pose2 robot_from_world{1000, 2000, 90_deg};
  const Report report = report_of(one_at(640, 460, -30), {&mapping, nullptr, &robot_from_world});
  REQUIRE(report.parts.size() == 1);
  const ReportedPart& part = report.parts[0];
  REQUIRE(part.world);
  CHECK(part.world->x_mm == doctest::Approx(10));
  CHECK(part.world->y_mm == doctest::Approx(10));
  CHECK(part.world->angle.degrees() == doctest::Approx(30));
  CHECK(part.world->sigma.x == doctest::Approx(0.005));
  CHECK(part.world->sigma.y == doctest::Approx(0.0025));
  REQUIRE(part.robot);
  CHECK(part.robot->x_mm == doctest::Approx(990));
  CHECK(part.robot->y_mm == doctest::Approx(2010));
  CHECK(part.robot->angle.degrees() == doctest::Approx(120));
  CHECK(part.robot->sigma.x == doctest::Approx(0.0025));  // turned by 90 degrees with the frame
}

TEST_CASE("without a mapping there is no world, without a frame no robot, and past the horizon neither") {
  const Report bare = report_of(one_at(1, 2, 3), {});
  CHECK_FALSE(bare.parts[0].world);
  Homography tilted;
  tilted << 4, 0, 600, 0, -4, 500, 0, 1e-3, 1;
  const Mapping mapping = PlaneMapping(tilted);
  CHECK_FALSE(report_of(one_at(0, 0, 0), {&mapping}).parts[0].robot);
  const Pose2 frame;
  const Report horizon = report_of(one_at(0, -4000, 0), {&mapping, nullptr, &frame});
  CHECK_FALSE(horizon.parts[0].world);
  CHECK_FALSE(horizon.parts[0].robot);
}

TEST_CASE("the robot takes a part at its grasp, and the user's axes count the world their own way") {
  Homography pixel_from_world;
  pixel_from_world << 4, 0, 600, 0, -4, 500, 0, 0, 1;
  const Mapping mapping = PlaneMapping(pixel_from_world);
  const Pose2 robot_from_world{0, 0, {}};
  const Axes axes{.zero_mm = {5, 5}, .x = AxisDirection::plus_y, .y = AxisDirection::minus_x};
  const Report report =
      report_of(one_at(640, 460, -30), {&mapping, &axes, &robot_from_world}, {.grasp = {20, 0, 90_deg}});
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
  Findings findings = one_at(pixel(0, 0).x, pixel(0, 0).y, 0);
  Sighting& s = findings.sightings[0];
  s.figures = {{"area", 1600, FigureUnit::square_pixels}, {"seen", 100}};
  s.points = {{"corner1", pixel(-30, 20), 0.02}};
  s.spans = {{"side1", pixel(-30, 20), pixel(50, 20)}};
  const Axes axes{.zero_mm = {10, 0}};
  const ReportedPart part = report_of(findings, {&mapping, &axes, nullptr}).parts.at(0);
  // At the world's zero u grows by 4 - 600 * 0.0002 a millimetre, v by 4.
  CHECK(*part.sighting.figure("area_mm2") == doctest::Approx(1600 / (3.88 * 4)).epsilon(1e-4));
  CHECK_FALSE(part.sighting.figure("seen_mm2"));
  REQUIRE(part.points_mm.size() == 1);
  CHECK(part.points_mm[0].x == doctest::Approx(-40));
  CHECK(part.points_mm[0].y == doctest::Approx(20));
  CHECK(part.lengths_mm.at(0) == doctest::Approx(80));
  const ReportedPart bare = report_of(findings, {}).parts.at(0);
  CHECK(bare.points_mm.empty());
  CHECK_FALSE(bare.sighting.figure("area_mm2"));
}
