#include <doctest/doctest.h>

#include "bench_pictures.hpp"
#include "sanitized.hpp"
#include "support.hpp"

using namespace heron;
using namespace inspection;
using render::BenchPanel;
using render::pieces_of;
using support::contains;
using support::error_of;

namespace {

Image<uint8_t> panel_picture(const Pose2& pose, const BenchPanel& panel = {}, const Shot& shot = {}) {
  return picture_of(pieces_of(panel, pose), shot);
}

/// The panel's gauges, drawn where it was taught.
const GaugeSet& panel_set() {
  static const GaugeSet set = set_of(panel_target(), panel_picture(panel_pose), panel_gauges());
  return set;
}
/// The same, drawn and measured in millimetres.
const Mapping& exact_mapping() {
  static const Mapping mapping = inspection::mapping();
  return mapping;
}

std::vector<render::Piece> operator+(std::vector<render::Piece> a, const std::vector<render::Piece>& b) {
  a.insert(a.end(), b.begin(), b.end());
  return a;
}

}  // namespace

TEST_CASE("gauges follow the part and read its true sizes in millimetres at any angle") {
  const Frames frames{&exact_mapping()};
  const int count = sanitized ? 3 : 24;
  for (int i = 0; i < count; ++i) {
    const Pose2 pose{i % 5 - 2.0, 3.0 - i % 4, degrees(i * 360.0 / count + 3)};
    CAPTURE(pose.angle.degrees());
    const BenchPanel panel{.slot_distance_mm = 70.4, .hole_mm = 14.3, .side_off = degrees(0.5)};
    const Report report = measured(panel_set(), panel_picture(pose, panel, {.seed = 40u + i}), frames);
    REQUIRE(report.parts.size() == 1);
    for (const auto& [name, truth] :
         {std::pair{"slot distance", 70.4}, {"hole", 14.3}, {"left slot", 6.0}, {"squareness", 89.5}}) {
      const Reading* r = reading(report, name);
      REQUIRE(r);
      CAPTURE(name);
      CAPTURE(r->reason);
      REQUIRE(r->value);
      // A slanted line bends across its band by less than what four sigmas cover.
      CHECK(std::abs(*r->value - truth) < 4.5 * *r->sigma);
      CHECK(*r->sigma < 0.02);
      CHECK(r->unit == (std::string(name) == "squareness" ? "deg" : "mm"));
    }
  }
}

TEST_CASE("attaching a gauge moves nothing: on the reference picture its shape lies as it was drawn") {
  for (const double turned : {0.0, 7.0, 90.0, -133.0}) {
    const Pose2 pose{4, 2, degrees(turned)};
    const std::vector<Gauge> gauges = panel_gauges(pose);
    const Image<uint8_t> picture = panel_picture(pose);
    const GaugeSet set = set_of(panel_target(), picture, gauges);
    const Report report = measured(set, picture);
    const Reading* hole = reading(report, "hole");
    REQUIRE(hole);
    const auto& drawn = std::get<CircleGauge>(gauges[3].kind).ring;
    // The first contour is the shape: its ring about the drawn centre.
    Range<double> x{1e9, -1e9}, y{1e9, -1e9};
    for (const Point2 p : hole->contours[0].points)
      x = {std::min(x.min, p.x), std::max(x.max, p.x)}, y = {std::min(y.min, p.y), std::max(y.max, p.y)};
    const Point2 middle{0.5 * (x.min + x.max), 0.5 * (y.min + y.max)};
    CHECK(distance(middle, {drawn[0], drawn[1]}) < 0.35);
    CHECK(distance(hole->at, pixel(pose * BenchPanel::hole_at)) < 0.1);
  }
}

TEST_CASE("one gauge gives a reading for each part found") {
  const auto small = [](double x, double angle) {
    std::vector<render::Piece> pieces = pieces_of(render::BenchDisc{.radius_mm = 18}, {x, 0, degrees(angle)});
    return pieces;
  };
  const Image<uint8_t> reference = picture_of(small(0, 0));
  const Target target = taught("disc", reference, {}, {21, 21});
  const Gauge rim{.name = "rim", .anchor = "disc", .kind = CircleGauge{.ring = ring({}, {}, 12, 24)}};
  const GaugeSet set = set_of(target.with(FindOptions{.max_count = FindOptions::all}), reference, {rim});
  for (int parts = 0; parts <= 3; ++parts) {
    std::vector<render::Piece> pieces;
    for (int i = 0; i < parts; ++i) pieces = pieces + small(-55.0 + 52 * i, 40 * i);
    const Report report = measured(set, picture_of(pieces));
    CHECK(report.parts.size() == static_cast<size_t>(parts));
    CHECK(report.readings.size() == static_cast<size_t>(std::max(parts, 1)));
    for (int i = 0; i < parts; ++i) {
      const Reading* r = reading(report, "rim", i);
      REQUIRE(r);
      REQUIRE(r->value);
      CHECK(std::abs(*r->value - 2 * 18 * scale) < 1.0);
      CHECK(report.parts[static_cast<size_t>(i)].verdict == Verdict::good);
    }
    if (parts == 0) {
      CHECK(report.readings[0].state == Verdict::not_measured);
      CHECK(contains(report.readings[0].reason, "'disc' was not found"));
      CHECK(report.verdict == Verdict::not_found);
    } else {
      CHECK(report.verdict == Verdict::good);
    }
  }
}

TEST_CASE("limits judge, a bad part keeps its pose, and what is missing is not bad") {
  GaugeSet set = panel_set();
  for (Gauge& g : set.gauges)
    if (g.name == "slot distance") g.limits = {69.5 * scale, 70.5 * scale};
  SUBCASE("good") { CHECK(measured(set, panel_picture({0, 0, degrees(30)})).verdict == Verdict::good); }
  SUBCASE("bad, with its pose") {
    const Report report = measured(set, panel_picture({0, 0, degrees(30)}, {.slot_distance_mm = 71}));
    CHECK(report.verdict == Verdict::bad);
    REQUIRE(report.parts.size() == 1);
    CHECK(report.parts[0].verdict == Verdict::bad);
    CHECK(std::abs(report.parts[0].detection.angle.degrees() + 23) < 0.1);
    CHECK(contains(reading(report, "slot distance")->reason, "is above 282 px"));
  }
  SUBCASE("a slot that is not there is not found, and the distance to it neither") {
    std::vector<render::Piece> pieces = pieces_of(BenchPanel{}, {0, 0, degrees(30)});
    pieces.erase(pieces.begin() + 1);
    const Report report = measured(set, picture_of(pieces));
    REQUIRE(report.parts.size() == 1);
    CHECK(reading(report, "left slot")->state == Verdict::not_found);
    CHECK(reading(report, "slot distance")->state == Verdict::not_found);
    CHECK(report.verdict == Verdict::not_found);
  }
  SUBCASE("no part") {
    const Report report = measured(set, picture_of({}));
    CHECK(report.verdict == Verdict::not_found);
    for (const Reading& r : report.readings) CHECK(r.state == Verdict::not_measured);
  }
  SUBCASE("a shape that leaves the picture") {
    const Report report = measured(set, panel_picture({60, 0, {}}));
    REQUIRE(report.parts.size() == 1);
    CHECK(reading(report, "right side")->state == Verdict::not_measured);
    CHECK(contains(reading(report, "right side")->reason, "reaches out of the picture"));
    CHECK(report.verdict == Verdict::not_measured);
    CHECK(reading(report, "left slot")->state == Verdict::good);
  }
}

TEST_CASE("a gauge that measures what is inside reads the same from what the picture holds") {
  GaugeSet set = panel_set();
  for (Gauge& g : set.gauges) g.outside = OutsidePicture::inside;
  const Report report = measured(set, panel_picture({0, 48, {}}));  // the upper part is cut off
  REQUIRE(report.parts.size() == 1);
  const Reading* side = reading(report, "squareness");
  REQUIRE(side->value);
  CHECK(std::abs(*side->value - 90) < 4 * *side->sigma);
}

TEST_CASE("fixed and following readings of one gauge are reported side by side") {
  const GaugeSet& set = panel_set();
  const Report report = measured(set, panel_picture({panel_pose.x + 1.5, panel_pose.y, panel_pose.angle}), {},
                                 {.fixed_too = true});
  const Reading *follows = reading(report, "lower side"),
                *fixed = reading(report, "lower side", std::nullopt, true);
  REQUIRE(follows);
  REQUIRE(fixed);
  REQUIRE(follows->value);
  REQUIRE(fixed->value);
  // The part lies 1.5 mm along its x, turned by 7 degrees: so much of it is across the lower side's band.
  CHECK(std::abs(*follows->value - 7 * scale) < 0.1);
  CHECK(std::abs(std::abs(*fixed->value - *follows->value) - 1.5 * scale * std::sin(degrees(7).radians())) <
        0.1);
  const Reading *hole = reading(report, "slot distance"),
                *hole_fixed = reading(report, "slot distance", std::nullopt, true);
  CHECK(std::abs(*hole->value - *hole_fixed->value) < 0.1);
}

TEST_CASE("a gauge follows the chosen components of the pose") {
  const auto lower = [](Follows follows) {
    Gauge g = panel_gauges()[4];
    g.follows = follows;
    return set_of(panel_target(), panel_picture(panel_pose), {g});
  };
  const Pose2 moved{panel_pose.x, panel_pose.y + 1, panel_pose.angle};
  const double up = scale * std::cos(degrees(7).radians());
  const auto place = [&](Follows follows) {
    return *reading(measured(lower(follows), panel_picture(moved)), "lower side")->value;
  };
  CHECK(std::abs(place({}) - 7 * scale) < 0.1);
  CHECK(std::abs(place({.y = false}) - 7 * scale - up) < 0.1);
  CHECK(std::abs(place({.x = false}) - 7 * scale) < 0.2);
  CHECK(std::abs(place({.x = false, .y = false, .angle = false}) - 7 * scale - up) < 0.1);
}

TEST_CASE("a gauge may follow another gauge's point, and combine two") {
  GaugeSet set = panel_set();
  const PreparedPicture reference(panel_picture(panel_pose));
  // The insert's tip, 11 mm right of the middle and 30 mm below the hole, from the hole's centre.
  add_gauge(set,
            {.name = "tip",
             .anchor = "hole",
             .kind = EdgeGauge{.band = band(panel_pose, {11, -6}, 10, 1.5, 0), .order = EdgeOrder::last}},
            reference);
  add_gauge(set,
            {.name = "middle line",
             .kind = LineGauge{.through = {"hole", "lower side"}, .reads = LineReading::length}},
            reference);
  add_gauge(set, {.name = "hole to side", .kind = DistanceGauge{.between = {"hole", "right side"}}},
            reference);
  add_gauge(set, {.name = "roundness", .kind = ValueGauge{.of = "hole", .reads = "roundness"}}, reference);
  const Report report = measured(set, panel_picture({-3, 4, degrees(-100)}));
  CHECK(std::abs(*reading(report, "middle line")->value - 64 * scale) < 0.15);
  CHECK(std::abs(*reading(report, "hole to side")->value - 60 * scale) < 0.15);
  CHECK(reading(report, "tip")->state == Verdict::good);
  REQUIRE(reading(report, "roundness")->value);
  CHECK(*reading(report, "roundness")->value < 0.3);
}

TEST_CASE("a target that was taught again makes its gauges stale until they are confirmed") {
  GaugeSet set = panel_set();
  const Image<uint8_t> picture = panel_picture(panel_pose);
  // Taught again with another origin: 5 mm beside.
  const Target again =
      teach_target("pattern",
                   {.grey = picture,
                    .region = Region::rectangle(pixel(panel_pose.position()), 520, 360, -panel_pose.angle)},
                   {.name = "panel", .origin = pixel(panel_pose * Point2{5, 0})});
  set.targets[0].target = again;
  set.targets[0].changed = difference(set.targets[0].stamp, stamp_of(again));
  CHECK(contains(set.targets[0].changed, "its pixels"));
  CHECK(contains(set.targets[0].changed, "its origin"));
  const Image<uint8_t> other = panel_picture({3, 1, degrees(60)});
  const Report stale = measured(set, other);
  CHECK(stale.readings[0].state == Verdict::not_measured);
  CHECK(contains(stale.readings[0].reason, "taught again"));
  CHECK(stale.verdict == Verdict::not_measured);
  const auto confirmed = confirm(set, PreparedPicture(Image<uint8_t>(picture)));
  REQUIRE(confirmed.size() == 1);
  CHECK(confirmed[0].found);
  CHECK(std::abs(confirmed[0].moved_px - 5 * scale) < 0.1);
  // The shapes did not move on the part.
  const Report report = measured(set, other);
  CHECK(report.verdict == Verdict::good);
  CHECK(std::abs(*reading(report, "slot distance")->value - 70 * scale) < 0.1);
}

TEST_CASE("a detail is judged by its place apart from its score") {
  const Image<uint8_t> reference = panel_picture(panel_pose);
  const Point2 insert_at = panel_pose * BenchPanel::insert_at;
  const Pose2 insert_pose{insert_at.x, insert_at.y, panel_pose.angle};
  const Target insert = taught("insert", reference, insert_pose, {14, 10});
  GaugeSet set = set_of(panel_target(), reference, {});
  const PreparedPicture prepared{Image<uint8_t>(reference)};
  set.targets.push_back(*attached(insert, "insert.png", prepared));
  add_gauge(set,
            {.name = "place",
             .anchor = "panel",
             .limits = {{}, 0.4 * scale},
             .kind = DetailGauge{.target = "insert"}},
            prepared);
  add_gauge(set, {.name = "turn", .limits = {-1.0, 1.0}, .kind = ValueGauge{.of = "place", .reads = "angle"}},
            prepared);
  add_gauge(set, {.name = "dx", .kind = ValueGauge{.of = "place", .reads = "dx"}}, prepared);
  const Pose2 pose{-4, 2, degrees(140)};
  SUBCASE("in its place") {
    const Report report = measured(set, panel_picture(pose));
    CHECK(report.verdict == Verdict::good);
    CHECK(*reading(report, "place")->value < 0.05);
  }
  SUBCASE("beside its place: a good score, and bad") {
    const Report report = measured(set, panel_picture(pose, {.insert_off = {0.6, -0.3}}));
    REQUIRE(reading(report, "place")->value);
    CHECK(std::abs(*reading(report, "place")->value - std::hypot(0.6, 0.3) * scale) < 0.05);
    // Along x of the reference picture, in which the part lies turned.
    CHECK(std::abs(*reading(report, "dx")->value - scale * dot(unit(panel_pose.angle), {0.6, 0.3})) < 0.05);
    CHECK(reading(report, "place")->state == Verdict::bad);
  }
  SUBCASE("turned") {
    const Report report = measured(set, panel_picture(pose, {.insert_turned = degrees(3)}));
    CHECK(reading(report, "place")->state == Verdict::good);
    CHECK(std::abs(*reading(report, "turn")->value + 3) < 0.1);
    CHECK(report.verdict == Verdict::bad);
  }
  SUBCASE("missing") {
    std::vector<render::Piece> pieces = pieces_of(BenchPanel{}, pose);
    pieces.pop_back();
    const Report report = measured(set, picture_of(pieces));
    CHECK(reading(report, "place")->state == Verdict::not_found);
    CHECK(report.verdict == Verdict::not_found);
  }
}

TEST_CASE("a reading too near to its limit is undecided, and the user chooses what that means") {
  GaugeSet set = panel_set();
  set.guard = 2;
  const double here = *reading(measured(set, panel_picture({1, 1, degrees(11)})), "hole")->value;
  for (Gauge& g : set.gauges)
    if (g.name == "hole") g.limits = {{}, here + 0.001};
  const Report report = measured(set, panel_picture({1, 1, degrees(11)}));
  CHECK(reading(report, "hole")->undecided);
  CHECK(reading(report, "hole")->state == Verdict::good);
  set.undecided = UndecidedAs::bad;
  CHECK(measured(set, panel_picture({1, 1, degrees(11)})).verdict == Verdict::bad);
  for (Gauge& g : set.gauges)
    if (g.name == "hole") g.limits = {here - 0.0005, here + 0.0005};
  CHECK(contains(reading(measured(set, panel_picture({1, 1, degrees(11)})), "hole")->reason,
                 "too large for its tolerance"));
}

TEST_CASE("a set that contradicts itself is refused with the names") {
  const auto refused = [](std::vector<Gauge> gauges, auto change) {
    GaugeSet set = panel_set();
    for (Gauge& g : gauges) set.gauges.push_back(std::move(g));
    change(set);
    return error_of([&] { set.require_valid(); });
  };
  const auto with = [&](Gauge g) { return refused({std::move(g)}, [](GaugeSet&) {}); };
  const std::vector<double> band{100, 100, 40, 10, 0};
  CHECK(contains(with({.name = "a", .kind = EdgeGauge{.band = band}}), "no anchor"));
  CHECK(contains(with({.name = "a", .anchor = "pannel", .kind = EdgeGauge{.band = band}}),
                 "no target or gauge 'pannel'"));
  CHECK(contains(with({.name = "hole", .anchor = "panel", .kind = EdgeGauge{.band = band}}),
                 "'hole' is used twice"));
  CHECK(
      contains(with({.name = "picture", .anchor = "panel", .kind = EdgeGauge{.band = band}}), "used twice"));
  CHECK(contains(with({.name = "a", .anchor = "panel", .kind = EdgeGauge{.band = {100, 100, 0, 10, 0}}}),
                 "size of 0"));
  CHECK(contains(with({.name = "a", .anchor = "panel", .kind = EdgeGauge{.band = {100, 100, 40, 10}}}),
                 "has 4 numbers"));
  CHECK(contains(with({.name = "a", .anchor = "panel", .kind = EdgeGauge{.band = {100, NAN, 40, 10, 0}}}),
                 "within"));
  CHECK(
      contains(with({.name = "a", .anchor = "panel", .limits = {3.0, 2.0}, .kind = EdgeGauge{.band = band}}),
               "swapped"));
  CHECK(contains(with({.name = "a", .anchor = "panel", .kind = EdgeGauge{}}), "no shape"));
  CHECK(contains(with({.name = "a", .kind = DistanceGauge{.between = {"hole", "holes"}}}),
                 "did you mean 'hole'"));
  CHECK(contains(with({.name = "a", .kind = DistanceGauge{.between = {"hole"}}}), "needs 2"));
  CHECK(contains(
      with({.name = "a", .anchor = "panel", .kind = DistanceGauge{.between = {"hole", "left slot"}}}),
      "no anchor of its own"));
  CHECK(contains(with({.name = "a", .anchor = "panel", .kind = DetailGauge{.target = "insert"}}),
                 "no target 'insert'"));
  CHECK(
      contains(with({.name = "a", .anchor = "panel", .kind = FillGauge{.box = band}}), "levels or a color"));
  CHECK(contains(with({.name = "a", .anchor = "panel", .kind = FillGauge{.box = band, .levels = {200, 100}}}),
                 "least first"));
  CHECK(contains(
      refused({{.name = "a", .kind = LineGauge{.through = {"b", "hole"}, .reads = LineReading::length}},
               {.name = "b", .kind = LineGauge{.through = {"c", "hole"}, .reads = LineReading::length}},
               {.name = "c", .kind = DistanceGauge{.between = {"a", "hole"}}}},
              [](GaugeSet&) {}),
      "'a' needs 'b' needs 'c' needs 'a'"));
  CHECK(contains(refused({}, [](GaugeSet& s) { s.part_rule = "hole and"; }),
                 "part_rule: rule, line 1, column 9"));
  CHECK(contains(refused({}, [](GaugeSet& s) { s.part_rule = "hol"; }), "did you mean 'hole'"));
  CHECK(contains(refused({}, [](GaugeSet& s) { s.guard = -1; }), "guard"));
  CHECK(contains(
      refused(std::vector<Gauge>(1001, {.name = "a", .anchor = "picture", .kind = EdgeGauge{.band = band}}),
              [](GaugeSet&) {}),
      "at most 1000"));
  GaugeSet mm = panel_set();
  mm.gauges[0].limits = {1.0, 2.0}, mm.gauges[0].unit = "mm";
  CHECK(contains(error_of([&] { measured(mm, panel_picture(panel_pose)); }), "limits in mm"));
}
