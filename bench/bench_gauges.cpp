// Gauges on rendered parts whose true sizes only the renderer knows: errors beside the Cramer-Rao bound, how
// honest the sigmas are, counts, and verdicts on parts with defects of known size.
//   bench_gauges [PICTURES] [SEED]
#include <fmt/format.h>

#include <cmath>
#include <cstdlib>
#include <map>

#include "gauge/bench_pictures.hpp"

using namespace heron;
using namespace inspection;
using render::BenchPanel;
using render::BenchTrowel;
using render::pieces_of;

namespace {

/// Errors of one gauge over all pictures.
struct Errors {
  int count = 0, within = 0, lost = 0;
  double sum = 0, squares = 0, bound_squares = 0, pulls = 0, largest = 0;
  void add(const Reading* r, double truth, double bound) {
    if (!r || !r->value) {
      ++lost;
      return;
    }
    const double error = *r->value - truth;
    ++count, sum += error, squares += error * error, bound_squares += bound * bound;
    largest = std::max(largest, std::abs(error));
    const double sigma = r->sigma.value_or(0);
    within += std::abs(error) <= 2 * sigma, pulls += sigma > 0 ? error * error / (sigma * sigma) : 0;
  }
  void print(const std::string& name, const char* unit) const {
    const double n = count, rms = std::sqrt(squares / n), bound = std::sqrt(bound_squares / n);
    fmt::print("  {:<26} {:>6} {:>5} {:>10.5f} {:>10.5f} {:>10} {:>8} {:>8.2f} {:>8.1f} {:>10.4f}  {}\n",
               name, count, lost, sum / n, rms, bound > 0 ? fmt::format("{:.5f}", bound) : "-",
               bound > 0 ? fmt::format("{:.2f}", rms / bound) : "-", std::sqrt(pulls / n), 100 * within / n,
               largest, unit);
  }
};

/// The bound of where a straight step is, `across` pixels long, whose levels are known from what lies beside
/// it: the information of a blurred step of that contrast under independent noise.
double step_bound(double contrast, double blur, double noise, double across) {
  const double b = std::sqrt(blur * blur + 1.0 / 12);  // the pixel's own width
  return std::sqrt(2 * std::sqrt(std::numbers::pi) * b * noise * noise / (contrast * contrast * across));
}

struct Drawn {
  Pose2 pose;
  Shot shot;
};
Drawn drawn(render::Random& random, double x = 12, double y = 5) {
  return {{random.uniform(-x, x), random.uniform(-y, y), degrees(random.uniform(-180, 180))},
          {.light = random.uniform(0.4, 1.4),
           .noise = 2,
           .blur = random.uniform(0.6, 1.4),
           .seed = random.bits()}};
}

void print_header() {
  fmt::print("  {:<26} {:>6} {:>5} {:>10} {:>10} {:>10} {:>8} {:>8} {:>8} {:>10}\n", "reading", "count",
             "lost", "mean", "rms", "bound", "rms/b", "rms/s", "2 sigma", "largest");
}

void accuracy(int pictures, uint64_t seed) {
  render::Random random(seed);
  const Mapping mapping = inspection::mapping();
  const Frames frames{&mapping};
  const Image<uint8_t> reference = picture_of(pieces_of(BenchPanel{}, panel_pose));
  GaugeSet set = set_of(panel_target(), reference, panel_gauges(), frames);
  const PreparedPicture prepared{Image<uint8_t>(reference)};
  const Point2 insert_at = panel_pose * BenchPanel::insert_at;
  set.targets.push_back(
      *attached(taught("insert", reference, {insert_at.x, insert_at.y, panel_pose.angle}, {14, 10}),
                "insert.png", prepared));
  add_gauge(set, {.name = "insert place", .anchor = "panel", .kind = DetailGauge{.target = "insert"}},
            prepared, frames);
  add_gauge(set, {.name = "dx", .kind = ValueGauge{.of = "insert place", .reads = "dx"}}, prepared, frames);
  add_gauge(set,
            {.name = "upper line",
             .anchor = "panel",
             .kind = LineGauge{.band = band(panel_pose, {10, 40}, 14, 60, -90)}},
            prepared, frames);
  std::map<std::string, Errors> errors;
  int lost = 0, turned_off = 0;
  for (int i = 0; i < pictures; ++i) {
    const Drawn d = drawn(random);
    BenchPanel p;
    p.slot_distance_mm += random.uniform(-1, 1), p.hole_mm += random.uniform(-1, 1);
    p.slot_width_mm += random.uniform(-0.5, 0.5),
        p.side_off = i % 2 == 0 ? Angle{} : degrees(random.uniform(-1, 1));
    p.insert_off = {random.uniform(-1, 1), random.uniform(-1, 1)};
    const Image<uint8_t> picture = picture_of(pieces_of(p, d.pose), d.shot);
    const Report report = measured(set, picture, frames);
    if (report.parts.size() != 1) {
      ++lost;
      continue;
    }
    const double grey = 230 * d.shot.light, slot = (0.68 - 0.12) * grey, side = (0.68 - 0.3) * grey;
    const auto step = [&](double contrast, double mm) {
      return step_bound(contrast, d.shot.blur, d.shot.noise, mm * scale) / scale;
    };
    const double one = step(slot, 30);
    const auto turn = [&](double contrast, double mm) {  // of a line, radians
      return step(contrast, mm) * std::sqrt(12.0) / mm;
    };
    errors["1 width of a slot"].add(reading(report, "left slot"), p.slot_width_mm, one * std::sqrt(2));
    errors["2 distance of two slots"].add(reading(report, "slot distance"), p.slot_distance_mm, one);
    errors["3 diameter of a hole"].add(reading(report, "hole"), p.hole_mm,
                                       2 * step(slot, std::numbers::pi * p.hole_mm));
    errors["4 angle of two sides"].add(reading(report, "squareness"), 90 - p.side_off.degrees(),
                                       radians(std::hypot(turn(side, 60), turn(side, 50))).degrees());
    // An edge in a band that stays where the renderer put it.
    GaugeSet fixed;
    fixed.gauges.push_back(
        {.name = "edge", .anchor = "picture", .kind = EdgeGauge{.band = band(d.pose, {0, -40}, 14, 60, 90)}});
    Report alone;
    measure(alone, fixed, PreparedPicture(Image<uint8_t>(picture)), frames);
    errors["5 place of an edge"].add(&alone.readings[0], 7, step(side, 60));
    errors["6 the same, following"].add(reading(report, "lower side"), 7, 0);
    if (i % 2 == 0)  // a part that is out of square has no place for its insert to a hundredth of a pixel
      errors["7 dx of a detail"].add(reading(report, "dx"),
                                     dot(unit(panel_pose.angle), {p.insert_off.x, -p.insert_off.y}), 0);
    const Reading* hole = reading(report, "hole");
    turned_off += !hole || !hole->value;
  }
  fmt::print(
      "{} pictures, seed {}: any angle, light 0.4 to 1.4, blur 0.6 to 1.4 pixels, noise 2; {} parts not "
      "found, {} holes\n",
      pictures, seed, lost, turned_off);
  print_header();
  for (const auto& [name, e] : errors) e.print(name.substr(2), name[0] == '4' ? "deg" : "mm");
}

/// A height map with one step of `height` across the middle of a band that is turned by `angle`, noise, and
/// holes.
Picture step_map(double height, double noise, Angle angle, render::Random& random) {
  Image<float> map(200, 200);
  const Point2 along = unit(angle);
  for (int y = 0; y < 200; ++y)
    for (int x = 0; x < 200; ++x) {
      const bool above = dot(along, Point2{x - 99.5, y - 99.5}) > 0;
      map(x, y) =
          random.uniform() < 0.1 ? NAN : static_cast<float>((above ? height : 0) + noise * random.normal());
    }
  Picture picture;
  picture.pixels = std::move(map), picture.pitch_mm = Point2{0.2, 0.2};
  return picture;
}

/// Readings without a bound: of a bent side, a chip, a filled share, a step of heights.
void other_kinds(int pictures, uint64_t seed) {
  render::Random random(seed ^ 55);
  const Mapping mapping = inspection::mapping();
  const Frames frames{&mapping};
  const Image<uint8_t> reference = picture_of(pieces_of(BenchPanel{}, panel_pose));
  std::vector<double> corners;
  for (const Point2 p : {Point2{-60, 24}, {-44, 40}, {60, 40}, {60, -40}, {-60, -40}}) {
    const Point2 at = pixel(panel_pose * p);
    corners.push_back(at.x), corners.push_back(at.y);
  }
  const Target rim =
      teach_target("border",
                   {.grey = reference,
                    .region = Region::rectangle(pixel(panel_pose.position()), 600, 440, -panel_pose.angle)},
                   {.name = "rim", .settings = {{"polyline", corners}, {"chip_width", 20.0}}});
  const PreparedPicture prepared{Image<uint8_t>(reference)};
  GaugeSet set = set_of(panel_target(), reference, {}, frames);
  set.targets.push_back(*attached(rim, "rim.png", prepared));
  const auto add = [&](const char* name, GaugeKind kind) {
    Gauge gauge{.name = name, .anchor = "panel"};
    gauge.kind = std::move(kind), add_gauge(set, std::move(gauge), prepared, frames);
  };
  add("bend", LineGauge{.band = band(panel_pose, {8, 40}, 14, 60, -90)});
  add("chip", BorderGauge{.target = "rim", .reads = BorderReading::depth});
  std::map<std::string, Errors> errors;
  const double light_level = 0.68 * 230;
  for (int i = 0; i < pictures; ++i) {
    const Drawn d = drawn(random);
    BenchPanel p;
    if (i % 2)
      p.chip_mm = random.uniform(1.5, 4);
    else
      p.bow_mm = random.uniform(0.5, 2);
    const Image<uint8_t> picture = picture_of(pieces_of(p, d.pose), d.shot);
    const Report report = measured(set, picture, frames);
    // A parabola about its line, from the middle of the first strip to that of the last: 58.5 of the side's
    // 104 mm.
    if (i % 2)
      errors["2 depth of a chip"].add(reading(report, "chip"), p.chip_mm, 0);
    else
      errors["1 straightness"].add(reading(report, "bend"), p.bow_mm * 58.5 * 58.5 / (104.0 * 104), 0);
    GaugeSet fixed;
    const double off = random.uniform(-8, 8);
    fixed.gauges.push_back({.name = "share",
                            .anchor = "picture",
                            .kind = FillGauge{.box = box(d.pose, {-20, -40 + off}, 20, 20),
                                              .levels = {0.49 * 230, 255},
                                              .light_box = box(d.pose, {-20, -20}, 8, 4),
                                              .light_level = light_level}});
    Report alone;
    measure(alone, fixed, PreparedPicture(Image<uint8_t>(picture)), frames);
    errors["3 filled share"].add(&alone.readings[0], 50 + 5 * off, 0);
    const Angle turn = degrees(random.uniform(-180, 180));
    const double height = random.uniform(0.5, 4);
    GaugeSet heights;
    heights.gauges.push_back({.name = "step",
                              .anchor = "picture",
                              .kind = ProfileGauge{.band = {99.5, 99.5, 90, 30, turn.degrees()}}});
    const Picture map = step_map(height, 0.05, turn, random);
    Report stack;
    measure(stack, heights, prepare(map, heights), {}, {.heights = height_map_of(map)});
    errors["4 step of heights"].add(&stack.readings[0], height, 0);
  }
  print_header();
  for (const auto& [name, e] : errors) e.print(name.substr(2), name[0] == '3' ? "%" : "mm");
}

void counts(int pictures, uint64_t seed) {
  render::Random random(seed ^ 77);
  int teeth_right = 0, number_right = 0, missing = 0, blobs_right = 0;
  for (int i = 0; i < pictures; ++i) {
    const Drawn d = drawn(random, 12, 5);
    const BenchTrowel trowel{.missing = random.uniform() < 0.5 ? random.whole(2, 9) : 0};
    GaugeSet set;
    set.gauges.push_back({.name = "teeth",
                          .anchor = "picture",
                          .kind = RepeatsGauge{.band = band(d.pose, {0, -3.5}, 100, 3, 0)}});
    Report report;
    measure(report, set, PreparedPicture(picture_of(pieces_of(trowel, d.pose), d.shot)));
    const Reading& r = report.readings[0];
    teeth_right += r.value && *r.value == (trowel.missing ? 9 : 10);
    double number = 0;
    for (const GaugeValue& v : r.values)
      if (v.name == "missing1") number = v.value;
    missing += trowel.missing > 0, number_right += trowel.missing > 0 && number == trowel.missing;

    std::vector<render::Piece> pieces{{render::rectangle(120, 90), d.pose, 0.25}};
    const int blobs = random.whole(0, 12);
    for (int k = 0; k < blobs; ++k)
      pieces.push_back(
          {render::disc(random.uniform(2, 4), d.pose * Point2{-42.0 + 14 * (k % 7), k < 7 ? 20.0 : -20.0}),
           {},
           random.uniform(0.5, 0.8)});
    for (int k = 0; k < 5; ++k)
      pieces.push_back({render::disc(0.7, d.pose * Point2{-40.0 + 20 * k, 0}), {}, 0.7});
    GaugeSet areas;
    areas.gauges.push_back({.name = "blobs",
                            .anchor = "picture",
                            .kind = BlobsGauge{.box = box(d.pose, {}, 110, 80), .min_area = 80}});
    Report found;
    measure(found, areas, PreparedPicture(picture_of(pieces, d.shot)));
    blobs_right += found.readings[0].value && *found.readings[0].value == blobs;
  }
  fmt::print("  teeth counted right {}/{}; missing tooth named right {}/{}; blobs counted right {}/{}\n",
             teeth_right, pictures, number_right, missing, blobs_right, pictures);
}

/// Verdicts on panels that are off by some tolerances in one thing.
void verdicts(int pictures, uint64_t seed) {
  const Mapping mapping = inspection::mapping();
  const Frames frames{&mapping};
  GaugeSet set =
      set_of(panel_target(), picture_of(pieces_of(BenchPanel{}, panel_pose)), panel_gauges(), frames);
  const double slot = 0.3, hole = 0.25, square = 0.3;
  for (Gauge& g : set.gauges) {
    if (g.name == "slot distance") g.limits = {70 - slot, 70 + slot};
    if (g.name == "hole") g.limits = {14 - hole, 14 + hole};
    if (g.name == "squareness") g.limits = {90 - square, 90 + square};
  }
  render::Random random(seed ^ 99);
  for (const double size : {0.5, 1.5, 3.0}) {
    int good = 0, bad = 0, open = 0;
    for (int i = 0; i < pictures; ++i) {
      const Drawn d = drawn(random);
      const double off = (random.uniform() < 0.5 ? -1 : 1) * size;
      BenchPanel p;
      if (i % 3 == 0) p.slot_distance_mm += off * slot;
      if (i % 3 == 1) p.hole_mm += off * hole;
      if (i % 3 == 2) p.side_off = degrees(off * square);
      const Report report = measured(set, picture_of(pieces_of(p, d.pose), d.shot), frames);
      const Verdict v = report.verdict.value_or(Verdict::not_found);
      good += v == Verdict::good, bad += v == Verdict::bad, open += v != Verdict::good && v != Verdict::bad;
    }
    fmt::print("  {} parts off by {:.1f} tolerances: {} good, {} bad, {} neither\n", pictures, size, good,
               bad, open);
  }
}

}  // namespace

int main(int argc, char** argv) {
  const int pictures = argc > 1 ? std::atoi(argv[1]) : 200;
  const uint64_t seed = argc > 2 ? std::strtoull(argv[2], nullptr, 10) : 990001;
  accuracy(pictures, seed);
  other_kinds(pictures, seed);
  counts(pictures, seed);
  verdicts(pictures, seed);
  return 0;
}
