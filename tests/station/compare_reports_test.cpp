#include <doctest/doctest.h>

#include "heron/station/compare_reports.hpp"

using namespace heron;

namespace {

ReportedPart part_at(double x, double y, double turn = 10, const char* target = "leaf") {
  ReportedPart part;
  part.detection = {.target = target, .x = x, .y = y, .angle = degrees(turn), .score = 99};
  return part;
}

Report report_of(std::vector<ReportedPart> parts) {
  Report report;
  report.parts = std::move(parts);
  return report;
}

using Words = std::vector<std::string>;

}  // namespace

TEST_CASE("what is the same in another order, with other scores, is no difference") {
  Report then = report_of({part_at(10, 20), part_at(100, 200)}),
         now = report_of({part_at(100.2, 200), part_at(10, 20.1)});
  now.parts[0].detection.score = 70, now.elapsed_ms = 9;
  CHECK(differences(then, now).empty());
  CHECK(differences(report_of({}), report_of({})).empty());
}

TEST_CASE("parts that are gone, new, moved, turned or ambiguous are said") {
  CHECK(differences(report_of({part_at(10, 20)}), report_of({})) == Words{"leaf at 10.0,20.0 is gone"});
  CHECK(differences(report_of({}), report_of({part_at(10, 20)})) == Words{"leaf at 10.0,20.0 is new"});
  CHECK(differences(report_of({part_at(10, 20)}), report_of({part_at(10, 23)})) ==
        Words{"leaf at 10.0,20.0 moved by 3.00 px"});
  CHECK(differences(report_of({part_at(10, 20, 179.8)}), report_of({part_at(10, 20, -179.2)})) ==
        Words{"leaf at 10.0,20.0 turned by 1.00 degrees"});
  CHECK(differences(report_of({part_at(10, 20)}), report_of({part_at(10, 20, 10, "kite")})) ==
        Words{"leaf at 10.0,20.0 is gone", "kite at 10.0,20.0 is new"});
  Report now = report_of({part_at(10, 20)});
  now.parts[0].detection.ambiguous = OtherPose{};
  CHECK(differences(report_of({part_at(10, 20)}), now) == Words{"leaf at 10.0,20.0 is ambiguous"});
  Report blocked = report_of({part_at(10, 20)}), free = blocked;
  blocked.parts[0].withheld = "it lies outside the reach";
  CHECK(differences(free, blocked) == Words{"leaf at 10.0,20.0 is not sent: it lies outside the reach"});
  CHECK(differences(blocked, free) == Words{"leaf at 10.0,20.0 is sent"});
  blocked = free;
  free.parts[0].grasp = ChosenGrasp{.number = 1}, blocked.parts[0].grasp = ChosenGrasp{.number = 2};
  CHECK(differences(free, blocked) == Words{"leaf at 10.0,20.0: grasp 1 -> 2"});
  // Of two near one another, each is matched once.
  CHECK(differences(report_of({part_at(10, 20), part_at(22, 20)}), report_of({part_at(21.9, 20)})) ==
        Words{"leaf at 10.0,20.0 is gone"});
  // A disc has no angle to compare.
  Report disc = report_of({part_at(10, 20)});
  disc.parts[0].detection.has_angle = false;
  CHECK(differences(disc, disc).empty());
  CHECK(differences(disc, report_of({part_at(10, 20)})) == Words{"leaf at 10.0,20.0 has an angle"});
}

TEST_CASE("the limit that turned a part away is said") {
  Report now;
  Miss miss{.x = 11, .y = 20, .angle = degrees(153.25)};
  miss.reasons = {{"angle", 153.25, "-100..100", 0}};
  now.misses = {miss};
  CHECK(differences(report_of({part_at(10, 20)}), now) ==
        Words{"leaf at 10.0,20.0 is gone: angle 153.2, needed -100..100"});
}

TEST_CASE("verdicts of gauges, parts and pictures, and texts that were read") {
  Report then = report_of({part_at(10, 20), part_at(50, 20)});
  then.parts[0].verdict = Verdict::good, then.verdict = Verdict::good;
  Reading slot{.gauge = "slot", .kind = "width", .quantity = "width", .part = 0};
  slot.state = Verdict::good;
  Reading number{.gauge = "number", .kind = "crop", .quantity = "text"};
  number.state = Verdict::good, number.text = "17";
  then.readings = {slot, number};
  Report now = report_of({then.parts[1], then.parts[0]});  // in another order
  now.verdict = Verdict::bad, now.parts[1].verdict = Verdict::bad;
  now.readings = {slot, number};
  now.readings[0].part = 1, now.readings[0].state = Verdict::bad, now.readings[1].text = "11";
  CHECK(differences(then, now) == Words{"leaf at 10.0,20.0: good -> bad",
                                        "gauge slot of leaf at 10.0,20.0: good -> bad",
                                        "gauge number: '17' -> '11'", "the picture: good -> bad"});
  now.readings.clear(), now.verdict.reset();
  CHECK(differences(then, now) == Words{"leaf at 10.0,20.0: good -> bad",
                                        "gauge slot of leaf at 10.0,20.0 is gone", "gauge number is gone",
                                        "the picture: good -> none"});
}
