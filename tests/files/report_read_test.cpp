#include <doctest/doctest.h>

#include <nlohmann/json.hpp>

#include "heron/files/report_json.hpp"
#include "support.hpp"

using namespace heron;
using support::contains;
using support::error_of;

namespace {

/// A report in which everything that JSON tells is set.
Report full_report() {
  Report report;
  report.number = 17, report.picture = "tray-\u00e9\"1.png", report.elapsed_ms = 12.25;
  ReportedPart part;
  Detection& s = part.detection;
  s = {.target = "leaf",
       .x = 1.0 / 3,
       .y = 1e-17,
       .angle = degrees(-33.125),
       .scale = 1.01,
       .score = 99.5,
       .contrast = 40};
  s.sigma = {0.01, 0.02, degrees(0.5), 0.0};
  s.range_end = {"angle"};
  s.inverted = true;
  s.ambiguous = OtherPose{1, 2, degrees(90), 1, 55};
  s.measurements = {{"area", 1234.5}, {"quality.rim", 98}, {"quality.total", 97}};
  s.defects = {{"chip", 200, 55, 30, 5, 7}};
  s.points = {{"corner1", {100, 50}, {0.02, 0.03}}};
  s.lengths = {{"side1", {100, 50}, {500, 50.5}, 0.02}};
  part.points_mm = {UserPoint(10, 5)}, part.lengths_mm = {40.25};
  part.distance = WidthDistance{250, 251, degrees(2), degrees(-3), 0.5, 0.6};
  part.world = UserPose{1, 2, 3, WorldAngle(degrees(45)), {0.1, 0.2, degrees(0.3), {}}};
  part.robot = RobotPose{-1, -2, -3, WorldAngle(degrees(-135)), {}};
  part.withheld = "ambiguous";
  part.verdict = Verdict::not_found;
  ReportedPart disc;
  disc.detection = {.target = "disc", .x = 5, .y = 6, .has_angle = false};
  report.parts = {part, disc};
  Miss miss{.x = 7, .y = 8, .angle = degrees(9), .scale = 1, .score = 57.5};
  miss.reasons = {{"score", 57.5, "at least 60", 0.1}};
  report.misses = {miss};
  Reading reading{.gauge = "slot",
                  .kind = "distance",
                  .quantity = "distance",
                  .part = 0,
                  .value = 4.5,
                  .sigma = 0.01,
                  .unit = "mm"};
  reading.limits = {.min = 4.4};
  reading.state = Verdict::bad, reading.reason = "too long", reading.undecided = true, reading.fixed = true;
  reading.values = {{"x", 1, 0.5, "mm"}, {"contrast", 40, {}, "levels"}};
  reading.items = {{{1, 2}, 3, false}};
  Reading crop{.gauge = "number", .kind = "crop", .quantity = "text"};
  crop.text = "A17", crop.confidence = 0.75, crop.state = Verdict::good;
  report.readings = {reading, crop};
  report.verdict = Verdict::bad;
  return report;
}

}  // namespace

TEST_CASE("a report is read back from its line as it was") {
  Report report = full_report();
  const std::string line = report_json(report);
  CHECK(report_json(report_of_json(line, "here")) == line);
  // Absence stays absence.
  const Report back = report_of_json(line, "here");
  CHECK_FALSE(back.parts[1].detection.has_angle);
  CHECK_FALSE(back.parts[1].world);
  CHECK_FALSE(back.parts[1].detection.sigma.x);
  CHECK_FALSE(back.readings[1].value);
  CHECK(back.parts[0].detection.sigma.scale == 0);
  CHECK(back.parts[0].detection.measurement("quality.rim") == 98);
  report = {};
  CHECK(report_json(report_of_json(report_json(report), "here")) == report_json(report));
}

TEST_CASE("a line that is no report is refused with its place") {
  const std::string line = report_json(full_report());
  for (const std::string& bad :
       {std::string(), std::string("{}"), std::string("[1, 2]"), line.substr(0, line.size() / 2)})
    CHECK(contains(error_of([&] { report_of_json(bad, "store tray: result 17"); }),
                   "store tray: result 17: holds no report"));
  // Every key of another kind.
  const auto whole = nlohmann::ordered_json::parse(line);
  for (const auto& [key, value] : whole.items()) {
    auto changed = whole;
    changed[key] = value.is_number() ? nlohmann::ordered_json("x") : nlohmann::ordered_json(5);
    CHECK(contains(error_of([&] { report_of_json(changed.dump(), "here"); }), "holds no report"));
  }
}
