#include <doctest/doctest.h>

#include "bench_pictures.hpp"
#include "sanitized.hpp"
#include "support.hpp"

using namespace heron;
using namespace inspection;
using render::BenchDisc;
using render::BenchPanel;
using render::BenchTrowel;
using render::pieces_of;
using support::contains;

namespace {

/// A gauge that stays in the picture, measured there.
Reading fixed_reading(const GaugeKind& kind, const Image<uint8_t>& picture, const std::string& name = "g") {
  GaugeSet set;
  set.gauges.push_back({.name = name, .anchor = "picture", .kind = kind});
  Report report;
  measure(report, set, PreparedPicture(Image<uint8_t>(picture)));
  return report.readings.at(0);
}

double value(const Reading& r, const std::string& name) {
  for (const GaugeValue& v : r.values)
    if (v.name == name) return v.value;
  FAIL("no value " << name);
  return 0;
}

/// A trowel's teeth along a band through their middle.
RepeatsGauge teeth_of(const Pose2& pose, RepeatReading reads, EdgeChange change = EdgeChange::rising) {
  return {.band = band(pose, {0, -3.5}, 100, 3, 0), .change = change, .reads = reads};
}

}  // namespace

TEST_CASE("teeth are counted by one polarity or by both, with pitch and missing ones by number") {
  for (const double turned : {0.0, 37.0, -90.0}) {
    const Pose2 pose{1, 2, degrees(turned)};
    const Image<uint8_t> good = picture_of(pieces_of(BenchTrowel{}, pose)),
                         broken = picture_of(pieces_of(BenchTrowel{.missing = 4}, pose)),
                         bent = picture_of(pieces_of(BenchTrowel{.moved = 7, .moved_mm = 0.5}, pose));
    CHECK(*fixed_reading(teeth_of(pose, RepeatReading::count), good).value == 10);
    CHECK(*fixed_reading(teeth_of(pose, RepeatReading::count, EdgeChange::either), good).value == 20);
    const Reading pitch = fixed_reading(teeth_of(pose, RepeatReading::pitch), good);
    CHECK(std::abs(*pitch.value - 9 * scale) < 4 * *pitch.sigma + 0.003);
    CHECK(*fixed_reading(teeth_of(pose, RepeatReading::error), good).value < 0.08);
    const Reading missing = fixed_reading(teeth_of(pose, RepeatReading::missing), broken);
    CHECK(*missing.value == 1);
    CHECK(value(missing, "missing1") == 4);
    CHECK(value(missing, "count") == 9);
    // 9 of 10 lie on a grid of their own; the moved one is off by what is left of half a millimetre.
    const Reading error = fixed_reading(teeth_of(pose, RepeatReading::error), bent);
    CHECK(*error.value > 0.4 * scale);
    CHECK(*error.value < 0.5 * scale);
  }
  CHECK(fixed_reading(teeth_of({}, RepeatReading::pitch), picture_of({})).state == Verdict::not_found);
  CHECK(*fixed_reading(teeth_of({}, RepeatReading::count), picture_of({})).value == 0);
}

TEST_CASE("around a ring a tooth at the start counts once") {
  // A gear of 12 teeth whose ring starts in the middle of one, on an edge, and in a gap.
  render::Outline gear;
  gear.loops.emplace_back();
  for (int i = 0; i < 12; ++i)
    for (const auto& [turn, radius] : {std::pair{0.0, 30.0}, {0.0, 38.0}, {15.0, 38.0}, {15.0, 30.0}})
      gear.loops[0].push_back(unit(degrees(30.0 * i + turn)) * radius);
  const Image<uint8_t> picture = picture_of({{gear, {}, 0.7}});
  for (const double start : {7.5, 0.0, 15.0, 22.0, -171.3}) {
    CAPTURE(start);
    const RepeatsGauge count{.ring = ring({}, {}, 32, 36, start)};
    CHECK(*fixed_reading(count, picture).value == 12);
    const Reading pitch =
        fixed_reading(RepeatsGauge{.ring = count.ring, .reads = RepeatReading::pitch}, picture);
    CHECK(std::abs(*pitch.value - 30) < 1e-9);
    CHECK(pitch.unit == "deg");
  }
}

TEST_CASE("a notch's direction is measured from the start of the ring") {
  for (const double notch : {90.0, 10.0, -60.0, 179.0}) {
    const Pose2 pose{0, 0, degrees(20)};
    const Image<uint8_t> picture = picture_of(pieces_of(BenchDisc{.notch = degrees(notch)}, pose));
    // From the kite's tip clockwise as seen in the picture, which the world counts backwards.
    const EdgeGauge first{.ring = ring(pose, {}, 29, 31, notch - 40, -360),
                          .change = EdgeChange::falling,
                          .order = EdgeOrder::first};
    const Reading r = fixed_reading(first, picture);
    REQUIRE(r.value);
    const double half = radians(std::asin(2.5 / 30)).degrees();  // of the notch at the ring's middle radius
    CHECK(std::abs(*r.value - (40 - half)) < 0.15);
  }
}

TEST_CASE("roundness and straightness tell how far a rim or a side is off") {
  const auto disc = [](double oval) {
    const CircleGauge rim{.ring = ring({}, {}, 26, 38), .reads = CircleReading::roundness};
    return fixed_reading(rim, picture_of({{pieces_of(BenchDisc{.oval_mm = oval}, {}).front()}}));
  };
  CHECK(*disc(0).value < 0.25);
  CHECK(std::abs(*disc(0.2).value - 0.4 * scale) < 0.25);
  const auto side = [](double bow) {
    const LineGauge upper{.band = band({}, {0, 40}, 16, 80, -90)};
    return fixed_reading(upper, picture_of(pieces_of(BenchPanel{.bow_mm = bow}, {})));
  };
  CHECK(*side(0).value < 0.25);
  // Between 20 mm and 100 mm of its length of 104: the bow's height less what its ends have there.
  CHECK(*side(0.4).value > 0.8);
  CHECK(*side(0.4).value < 1.8);
}

TEST_CASE("a width is that of the pair that is asked for") {
  const auto bars = [](WidthPair pair, WidthTone tone = WidthTone::bright) {
    std::vector<render::Piece> pieces;
    for (const auto& [at, width] : {std::pair{-30.0, 4.0}, {-10.0, 9.0}, {14.0, 6.0}})
      pieces.push_back({render::rectangle(width, 40, {at, 0}), {0, 0, degrees(3)}, 0.7});
    return fixed_reading(WidthGauge{.band = band({}, {-5, 0}, 80, 10, 0), .pair = pair, .tone = tone},
                         picture_of(pieces));
  };
  CHECK(std::abs(*bars(WidthPair::nearest).value - 9 * scale) < 0.1);
  CHECK(std::abs(*bars(WidthPair::widest).value - 9 * scale) < 0.1);
  CHECK(std::abs(*bars(WidthPair::narrowest).value - 4 * scale) < 0.1);
  CHECK(std::abs(*bars(WidthPair::outermost).value - 49 * scale) < 0.1);
  CHECK(std::abs(*bars(WidthPair::widest, WidthTone::dark).value - 16.5 * scale) < 0.1);
  const Reading all = bars(WidthPair::all);
  CHECK(value(all, "pairs") == 3);
  CHECK(std::abs(*all.value - 19.0 / 3 * scale) < 0.1);
  CHECK(bars(WidthPair::nearest).items.size() == 1);
}

TEST_CASE("the filled share follows the light by its reference box") {
  const auto share = [](double light, bool follows) {
    // A plate whose left three tenths are dark, and a grey patch as reference.
    const std::vector<render::Piece> pieces{{render::rectangle(60, 40), {}, 0.6},
                                            {render::rectangle(18, 40, {-21, 0}), {}, 0.15},
                                            {render::rectangle(20, 20, {60, 0}), {}, 0.5}};
    FillGauge fill{.box = box({}, {}, 60, 38), .levels = {100, 255}};
    if (follows) fill.light_box = box({}, {60, 0}, 14, 14), fill.light_level = 115;
    return fixed_reading(fill, picture_of(pieces, {.light = light}));
  };
  CHECK(std::abs(*share(1, false).value - 70) < 0.7);
  for (const double light : {0.4, 0.7, 1.0, 1.4}) CHECK(std::abs(*share(light, true).value - 70) < 0.7);
  CHECK(*share(0.4, false).value < 5);  // all is dark by fixed levels
  CHECK(*share(1, true).sigma < 0.5);
}

TEST_CASE("blobs are counted by size, with the count at other sizes beside it") {
  std::vector<render::Piece> pieces{{render::rectangle(120, 90), {}, 0.25}};
  for (int i = 0; i < 7; ++i) pieces.push_back({render::disc(3, {-45.0 + 15 * i, 10}), {}, 0.7});
  for (int i = 0; i < 4; ++i) pieces.push_back({render::disc(1, {-30.0 + 20 * i, -20}), {}, 0.7});
  const auto blobs = [&](BlobsGauge gauge, double light = 1) {
    gauge.box = box({}, {}, 110, 80);
    return fixed_reading(gauge, picture_of(pieces, {.light = light}));
  };
  for (const double light : {0.4, 1.0, 1.4}) {
    CHECK(*blobs({.min_area = 100}, light).value == 7);
    CHECK(*blobs({.min_area = 20}, light).value == 11);
    CHECK(*blobs({.min_area = 20, .max_area = 100}, light).value == 4);
    CHECK(*blobs({.threshold = BlobThreshold::relative, .level = 1.8, .min_area = 100}, light).value == 7);
  }
  CHECK(*blobs({.threshold = BlobThreshold::fixed, .level = 110, .min_area = 100}).value == 7);
  const Reading area = blobs({.min_area = 120, .reads = BlobReading::area});
  CHECK(std::abs(*area.value - 7 * std::numbers::pi * 9 * scale * scale) < 0.02 * *area.value);
  CHECK(value(area, "count_at_half_min_area") == 7);
  CHECK(*blobs({.tone = BlobTone::dark, .min_area = 100}).value == 1);  // the plate around them
  // One blob in a dim picture is too little for a valley between two groups of grey levels.
  std::vector<render::Piece> one{pieces[0], {render::disc(2, {20, 10}), {}, 0.55}};
  for (const double light : {0.4, 0.5, 1.0}) {
    BlobsGauge gauge{.min_area = 80};
    gauge.box = box({}, {}, 110, 80);
    CHECK(*fixed_reading(gauge, picture_of(one, {.light = light})).value == 1);
  }
  // An even plate has no blobs: noise is none.
  pieces.resize(1);
  CHECK(*blobs({.min_area = 4}).value == 0);
}

TEST_CASE("glazed chips of the right color in their places are distinguished from others") {
  const auto board = [](std::vector<render::Tint> glazes) {
    render::Random random(5);
    return render::expose(
        exact_color(pieces_of(render::BenchBoard{.glazes = std::move(glazes)}, {0, 0, degrees(10)})),
        {.sigma = 2}, random);
  };
  using render::amber_glaze;
  using render::rose_glaze;
  using render::teal_glaze;
  const Image<Rgb> good = board({teal_glaze, amber_glaze, rose_glaze, teal_glaze, amber_glaze, rose_glaze});
  const Image<uint8_t> grey = grey_levels(good.view());
  const Pose2 pose{0, 0, degrees(10)};
  const auto chip = [&](int index) { return box(pose, render::BenchBoard::chip_at(index), 12, 12); };
  const Point2 sample = pixel(pose * render::BenchBoard::chip_at(0));
  const Target teal =
      teach_target("color", {.grey = grey, .color = good, .region = Region::rectangle(sample, 40, 40, {})},
                   {.name = "teal"});
  GaugeSet set;
  set.targets.push_back({.name = "teal", .file = "teal.png", .stamp = stamp_of(teal), .target = teal});
  for (int i = 0; i < 6; ++i)
    set.gauges.push_back({.name = "chip" + std::to_string(i + 1),
                          .anchor = "picture",
                          .limits = {90.0, {}},
                          .kind = FillGauge{.box = chip(i), .color = "teal"}});
  const auto good_chips = [&](const Image<Rgb>& picture) {
    Report report;
    measure(report, set, PreparedPicture(Image<Rgb>(picture.view())));
    std::string found;
    for (const Reading& r : report.readings)
      if (r.state == Verdict::good) found += r.gauge.back();
    return found;
  };
  CHECK(good_chips(good) == "14");
  CHECK(good_chips(board({rose_glaze, teal_glaze, rose_glaze, {0, 0, 0}, amber_glaze, rose_glaze})) == "2");
  Report report;
  measure(report, set, PreparedPicture(Image<uint8_t>(grey)));
  CHECK(report.readings[0].state == Verdict::not_measured);
}

TEST_CASE("chips along a taught border are measured wherever the part lies") {
  const Image<uint8_t> reference = picture_of(pieces_of(BenchPanel{}, panel_pose));
  std::vector<double> corners;
  for (const Point2 p : {Point2{-60, 24}, {-44, 40}, {60, 40}, {60, -40}, {-60, -40}}) {
    const Point2 at = pixel(panel_pose * p);
    corners.push_back(at.x), corners.push_back(at.y);
  }
  const Target border = teach_target(
      "border", {.grey = reference, .region = Region::rectangle({20, 20, width - 40, height - 40})},
      {.name = "rim", .settings = {{"polyline", corners}, {"chip_width", 20.0}, {"chip_change", 25.0}}});
  GaugeSet set = set_of(panel_target(), reference, {});
  const PreparedPicture prepared{Image<uint8_t>(reference)};
  set.targets.push_back(*attached(border, "rim.png", prepared));
  add_gauge(set,
            {.name = "chip",
             .anchor = "panel",
             .kind = BorderGauge{.target = "rim", .reads = BorderReading::depth}},
            prepared);
  for (const double turned : {7.0, 47.0, -140.0}) {
    CAPTURE(turned);
    const Pose2 pose{3, 1, degrees(turned)};
    const Reading none = *reading(measured(set, picture_of(pieces_of(BenchPanel{}, pose))), "chip"),
                  chip =
                      *reading(measured(set, picture_of(pieces_of(BenchPanel{.chip_mm = 3}, pose))), "chip");
    CAPTURE(none.reason);
    REQUIRE(none.value);
    CHECK(*none.value == 0);
    REQUIRE(chip.value);
    CHECK(*chip.value > 1.5 * scale);
    CHECK(*chip.value < 3.5 * scale);
  }
}

TEST_CASE("detections in a shape are counted, none and many too") {
  const auto discs = [](int count) {
    std::vector<render::Piece> pieces{{render::rectangle(150, 100), {}, 0.25}};
    for (int i = 0; i < count; ++i)
      for (render::Piece& p : pieces_of(BenchDisc{.radius_mm = 10}, {-60.0 + 28 * i, 20, degrees(50 * i)})) {
        p.outline =
            p.outline.loops.size() == 1 && p.reflectance > 0.6 ? p.outline : render::scaled(p.outline, 0.3);
        pieces.push_back(p);
      }
    return picture_of(pieces);
  };
  const Target target = taught("button", discs(1), {-60, 20, {}}, {12, 12});
  GaugeSet set;
  set.targets.push_back(
      {.name = "button", .file = "button.png", .stamp = stamp_of(target), .target = target});
  set.gauges.push_back({.name = "buttons",
                        .anchor = "picture",
                        .limits = {2.0, 4.0},
                        .kind = CountGauge{.target = "button", .box = box({}, {-4, 20}, 140, 40)}});
  for (const int count : {0, 1, 3, 5}) {
    Report report;
    measure(report, set, PreparedPicture(discs(count)));
    CHECK(*report.readings[0].value == count);
    CHECK(report.verdict == (count >= 2 && count <= 4 ? Verdict::good : Verdict::bad));
  }
}

namespace {

/// A leaning table with a block of 3 mm on it, whose top falls by 1 degree along x, and noise.
Image<float> block_map(double noise, double holes, uint64_t seed = 1) {
  render::Random random(seed);
  Image<float> map(300, 200);
  for (int y = 0; y < 200; ++y)
    for (int x = 0; x < 300; ++x) {
      const bool block = x >= 100 && x < 220 && y >= 50 && y < 150;
      const double h = block ? 3 - std::tan(degrees(1).radians()) * 0.2 * (x - 100) : 0;
      map(x, y) = random.uniform() < holes ? NAN : static_cast<float>(h + noise * random.normal());
    }
  return map;
}

Reading profile_reading(const ProfileGauge& gauge, const Image<float>& map) {
  GaugeSet set;
  // Limits in millimetres need no mapping: heights are.
  set.gauges.push_back({.name = "p", .anchor = "picture", .limits = {-1e4, 1e4}, .kind = gauge});
  set.gauges[0].unit = gauge.reads == ProfileReading::volume  ? ""
                       : gauge.reads == ProfileReading::slope ? "deg"
                                                              : "mm";
  Picture picture;
  picture.pixels = Image<float>(map.view()), picture.pitch_mm = Point2{0.2, 0.2};
  Report report;
  measure(report, set, prepare(picture, set), {}, {.heights = height_map_of(picture)});
  return report.readings.at(0);
}

}  // namespace

TEST_CASE("profiles of a height map read steps, slopes and volumes, across holes") {
  for (const double holes : {0.0, 0.2}) {
    const Image<float> map = block_map(0.02, holes);
    const auto read = [&](ProfileReading reads, std::vector<double> band) {
      return profile_reading({.band = std::move(band), .reads = reads}, map);
    };
    const Reading step = read(ProfileReading::step, {100, 100, 40, 30, 0}),
                  down = read(ProfileReading::step, {160, 150, 40, 60, 90}),
                  slope = read(ProfileReading::slope, {160, 100, 100, 40, 0}),
                  back = read(ProfileReading::slope, {160, 100, 100, 40, 180}),
                  flat = read(ProfileReading::flatness, {160, 100, 100, 40, 0}),
                  top = read(ProfileReading::highest, {100, 100, 60, 30, 0}),
                  volume = read(ProfileReading::volume, {160, 100, 140, 120, 0});
    REQUIRE(step.value);
    CHECK(std::abs(*step.value - 2.97) < 0.04);  // the top falls from the edge on
    CHECK(std::abs(*down.value + 2.79) < 0.04);
    CHECK(std::abs(*slope.value + 1) < 4 * *slope.sigma + 0.01);
    CHECK(std::abs(*back.value - 1) < 4 * *back.sigma + 0.01);
    CHECK(*flat.value < 0.04);
    CHECK(std::abs(*top.value - 3) < 0.04);
    // 120 x 100 pixels of 0.04 mm2, on the mean 2.79 mm high, less what is below the table's zero beside it.
    CHECK(std::abs(*volume.value - 120 * 100 * 0.04 * 2.79) < 12);
    CHECK(volume.unit == "mm3");
  }
  CHECK(profile_reading({.band = {150, 100, 100, 30, 0}}, block_map(0.02, 0.8)).state == Verdict::not_found);
  CHECK(fixed_reading(ProfileGauge{.band = {150, 100, 100, 30, 0}}, picture_of({})).state ==
        Verdict::not_measured);
  CHECK(std::abs(*profile_reading({.band = {100, 100, 40, 30, 0}}, block_map(0, 0)).value - 2.97) < 0.03);
}
