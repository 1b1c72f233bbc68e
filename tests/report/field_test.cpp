#include <doctest/doctest.h>

#include "heron/base/error.hpp"
#include "heron/report/field.hpp"

using namespace heron;

namespace {

Report two_parts() {
  Report report{
      .number = 7, .picture = "tray.png", .elapsed_ms = 3.5, .parts = {}, .misses = {}, .profiles = {}};
  ReportedPart leaf;
  leaf.detection = {.target = "leaf", .x = 100, .y = 200, .angle = 30_deg, .score = 98};
  leaf.robot = RobotPose{10, -20, 3, WorldAngle{45_deg}, {0.01, 0.02, degrees(0.1), 0}};
  leaf.verdict = Verdict::bad;
  ReportedPart disc = leaf;
  disc.detection.target = "disc", disc.detection.has_angle = false, disc.verdict = std::nullopt;
  ReportedPart doubtful = leaf;
  doubtful.withheld = "ambiguous";
  ReportedPart nowhere = leaf;
  nowhere.robot = std::nullopt;
  report.parts = {leaf, doubtful, nowhere, disc};
  report.readings.push_back(
      {.gauge = "slot", .kind = "distance", .quantity = "distance", .part = 0, .value = 4.25});
  report.readings.push_back({.gauge = "slot", .kind = "distance", .quantity = "distance", .part = 3});
  return report;
}

double number(const FieldValue& v) { return std::get<double>(v); }
bool missing(const FieldValue& v) { return std::holds_alternative<std::monostate>(v); }

}  // namespace

TEST_CASE("fields of a report are its values, and what is not known stays nothing") {
  const Report report = two_parts();
  const SentReport sent = sent_of(report, 12);
  REQUIRE(sent.parts == std::vector<size_t>{0, 3});  // withheld and without a place: not sent
  CHECK(number(field_of(sent, "number")) == 7);
  CHECK(number(field_of(sent, "count")) == 2);
  CHECK(number(field_of(sent, "found")) == 4);
  CHECK(number(field_of(sent, "age_ms")) == 12);
  CHECK(std::get<std::string>(field_of(sent, "picture")) == "tray.png");
  CHECK(missing(field_of(sent, "verdict")));
  CHECK(number(field_of(sent, 0, "x")) == 10);
  CHECK(number(field_of(sent, 0, "angle")) == doctest::Approx(45));
  CHECK(number(field_of(sent, 0, "pixel_angle")) == doctest::Approx(30));
  CHECK(std::get<std::string>(field_of(sent, 0, "verdict")) == "bad");
  CHECK(number(field_of(sent, 0, "reading.slot")) == 4.25);
  CHECK(number(field_of(sent, 1, "index")) == 2);
  // A disc has no angle, and so no sigma of one; its slot was not measured, and nobody judged it.
  for (const char* name :
       {"angle", "sigma_angle", "pixel_angle", "world_angle", "reading.slot", "verdict", "world_x"})
    CHECK_MESSAGE(missing(field_of(sent, 1, name)), name);
}

TEST_CASE("every field in the lists can be read, and no other") {
  const Report report = two_parts();
  const SentReport sent = sent_of(report, 0);
  for (const FieldInfo& f : report_fields()) CHECK_NOTHROW(field_of(sent, f.name));
  for (const FieldInfo& f : part_fields()) CHECK_NOTHROW(field_of(sent, 0, f.name));
  CHECK_THROWS_AS(field_of(sent, "x"), Error);
  CHECK_THROWS_AS(field_of(sent, 0, "count"), Error);
  CHECK(field_info(part_fields(), "reading.slot") != nullptr);
  CHECK(field_info(part_fields(), "reading.") != nullptr);
  CHECK(field_info(part_fields(), "reads.slot") == nullptr);
}
