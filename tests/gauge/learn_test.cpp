#include <doctest/doctest.h>

#include <cmath>

#include "heron/gauge/learn.hpp"
#include "heron/gauge/repeatability.hpp"
#include "heron/render/random.hpp"
#include "support.hpp"

using namespace heron;
using support::contains;

namespace {

/// A set of gauges by name alone; nothing is measured here.
GaugeSet gauges_named(const std::vector<std::string>& names) {
  GaugeSet set;
  for (const std::string& name : names) {
    Gauge g;
    g.name = name, g.anchor = "picture", g.kind = EdgeGauge{.band = {100, 100, 40, 10, 0}};
    set.gauges.push_back(std::move(g));
  }
  return set;
}

ExamplePart example(bool good, const std::vector<std::pair<std::string, double>>& values,
                    const std::string& picture = "p") {
  ExamplePart part{.picture = picture, .part = 0, .good = good};
  for (const auto& [name, value] : values) {
    Reading r;
    r.gauge = name, r.value = value, r.unit = "mm", r.part = 0, r.state = Verdict::good;
    part.readings.push_back(std::move(r));
  }
  return part;
}

}  // namespace

TEST_CASE("limits are learned from good and bad parts, by the gauge that tells them apart") {
  render::Random random(3);
  std::vector<ExamplePart> parts;
  for (int i = 0; i < 20; ++i)
    parts.push_back(
        example(true, {{"hole", 14 + 0.02 * random.normal()}, {"slot", 70 + 0.05 * random.normal()}}));
  for (int i = 0; i < 6; ++i)
    parts.push_back(
        example(false, {{"hole", 14.4 + 0.02 * random.normal()}, {"slot", 70 + 0.05 * random.normal()}}));
  const LearnedLimits learned = learn_limits(gauges_named({"hole", "slot"}), parts);
  CHECK(learned.good_parts == 20);
  CHECK(learned.bad_parts == 6);
  const LearnedGauge &hole = learned.gauges[0], &slot = learned.gauges[1];
  CHECK(hole.told == 6);
  REQUIRE(hole.proposed.max);
  CHECK_FALSE(hole.proposed.min);  // no bad part is too small
  CHECK(*hole.proposed.max > hole.good_range.max);
  CHECK(*hole.proposed.max < 14.35);
  CHECK(hole.gap > 0.2);
  CHECK(*hole.false_rejects < 1e-3);
  REQUIRE(hole.false_accepts);
  CHECK(*hole.false_accepts < 1e-3);
  CHECK_FALSE(slot.proposed.any());
  CHECK(contains(slot.why, "tells no bad part"));
  CHECK(learned.untold.empty());
  CHECK(learned.good_rejected == 0);
  CHECK(learned.bad_accepted == 0);
  const GaugeSet set = with_limits(gauges_named({"hole", "slot"}), learned);
  CHECK(set.gauges[0].limits.max == hole.proposed.max);
  CHECK(set.gauges[0].unit == "mm");
  CHECK_FALSE(set.gauges[1].limits.any());
}

TEST_CASE("examples that contradict themselves are named, and a bad part that no gauge tells too") {
  render::Random random(4);
  std::vector<ExamplePart> parts;
  for (int i = 0; i < 12; ++i) parts.push_back(example(true, {{"hole", 14 + 0.02 * random.normal()}}));
  parts.push_back(example(true, {{"hole", 14.5}}, "mislaid.png"));
  for (int i = 0; i < 4; ++i) parts.push_back(example(false, {{"hole", 14.5 + 0.01 * i}}));
  parts.push_back(example(false, {{"hole", 14.0}}, "unseen.png"));
  const LearnedLimits learned = learn_limits(gauges_named({"hole"}), parts);
  REQUIRE(learned.gauges[0].contradictions.size() == 1);
  CHECK(learned.gauges[0].contradictions[0].picture == "mislaid.png");
  CHECK(*learned.gauges[0].proposed.max < 14.4);
  REQUIRE(learned.untold.size() == 1);
  CHECK(learned.untold[0].picture == "unseen.png");
  CHECK(learned.good_rejected == 1);
  CHECK(learned.bad_accepted == 1);
}

TEST_CASE("without bad parts both limits are proposed, and few good ones propose none") {
  render::Random random(5);
  std::vector<ExamplePart> parts;
  for (int i = 0; i < 2; ++i) parts.push_back(example(true, {{"hole", 14 + 0.02 * random.normal()}}));
  CHECK(contains(learn_limits(gauges_named({"hole"}), parts).gauges[0].why, "it needs 3"));
  for (int i = 0; i < 28; ++i) parts.push_back(example(true, {{"hole", 14 + 0.02 * random.normal()}}));
  const LearnedGauge g = learn_limits(gauges_named({"hole"}), parts).gauges[0];
  REQUIRE(g.proposed.min);
  REQUIRE(g.proposed.max);
  CHECK(*g.proposed.max - *g.proposed.min > 6 * 0.02);
  CHECK(*g.proposed.max - *g.proposed.min < 14 * 0.02);
  CHECK(learn_limits(gauges_named({"hole"}), {}).gauges[0].why == "0 good readings; it needs 3");
}

TEST_CASE("the error rates that learning predicts hold on parts that it has not seen") {
  // Good and bad so near that both rates are large enough to be counted.
  render::Random random(6);
  double predicted_rejects = 0, predicted_accepts = 0, rejects = 0, accepts = 0;
  const int sets = 400, seen = 200;
  int counted = 0;
  for (int s = 0; s < sets; ++s) {
    std::vector<ExamplePart> parts;
    for (int i = 0; i < 15; ++i) parts.push_back(example(true, {{"g", random.normal()}}));
    for (int i = 0; i < 15; ++i) parts.push_back(example(false, {{"g", 6 + random.normal()}}));
    const LearnedGauge g = learn_limits(gauges_named({"g"}), parts).gauges[0];
    if (!g.proposed.max || g.proposed.min || !g.false_accepts || g.told < 15) continue;
    ++counted, predicted_rejects += *g.false_rejects, predicted_accepts += *g.false_accepts;
    for (int i = 0; i < seen; ++i) {
      rejects += random.normal() > *g.proposed.max, accepts += 6 + random.normal() < *g.proposed.max;
    }
  }
  REQUIRE(counted > 50);
  const double n = counted, many = n * seen;
  CAPTURE(predicted_rejects / n);
  CAPTURE(rejects / many);
  CHECK(rejects / many < 1.3 * predicted_rejects / n + 1e-4);
  CHECK(accepts / many < 1.3 * predicted_accepts / n + 1e-4);
  CHECK(rejects / many > 0.1 * predicted_rejects / n);
}

TEST_CASE("repeatability tells what repeating scatters from what parts differ by") {
  render::Random random(7);
  RepeatabilityStudy study;
  const double within = 0.01, between = 0.1;
  for (int part = 0; part < 30; ++part) {
    const double size = 14 + between * random.normal();
    for (int i = 0; i < 10; ++i) {
      Report report;
      report.picture = "picture" + std::to_string(10 * part + i);
      ReportedPart there;
      there.detection.x = random.uniform(0, 500);  // laid down anew each time
      report.parts.push_back(there);
      Reading r;
      r.gauge = "hole", r.value = size + within * random.normal(), r.sigma = within, r.part = 0,
      r.unit = "mm", r.limits = {13.5, 14.5};
      report.readings.push_back(r);
      study.add(report, "part" + std::to_string(part));
    }
  }
  const Repeatability r = study.results().at(0);
  CHECK(r.parts == 30);
  CHECK(r.readings.size() == 300);
  CHECK(std::abs(r.within - within) < 0.0015);
  CHECK(std::abs(*r.between - between) < 0.04);
  CHECK(std::abs(*r.share_of_tolerance - 6 * r.within) < 1e-12);
  CHECK(std::abs(*r.cg - 0.2 / (6 * r.within)) < 1e-9);
  CHECK_FALSE(r.cgk);  // of many parts there is no one known size
  CHECK(support::error_of([&] {
          study.results({{"slot", 3}});
        }) == "there is no reading of a gauge 'slot' whose size is known");

  RepeatabilityStudy one;
  for (int i = 0; i < 50; ++i) {
    Report report;
    ReportedPart left, right;
    left.detection.x = 100 + random.normal(), right.detection.x = 400 + random.normal();
    report.parts = {left, right};
    for (size_t p = 0; p < 2; ++p) {
      Reading r2;
      r2.gauge = "hole", r2.value = (p == 0 ? 14.02 : 14.3) + within * random.normal(), r2.part = p,
      r2.limits = {13.5, 14.5};
      report.readings.push_back(r2);
    }
    if (i % 2)
      std::swap(report.parts[0], report.parts[1]),
          std::swap(report.readings[0].value, report.readings[1].value);
    one.add(report, "tray");
  }
  const Repeatability two = one.results().at(0);
  CHECK(two.parts == 2);  // told apart by where they lie
  CHECK(std::abs(two.within - within) < 0.002);
}
