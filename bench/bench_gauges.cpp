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
  fmt::print("  {:<26} {:>6} {:>5} {:>10} {:>10} {:>10} {:>8} {:>8} {:>8} {:>10}\n", "reading", "count",
             "lost", "mean", "rms", "bound", "rms/b", "rms/s", "2 sigma", "largest");
  for (const auto& [name, e] : errors) e.print(name.substr(2), name[0] == '4' ? "deg" : "mm");
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
  counts(pictures, seed);
  verdicts(pictures, seed);
  return 0;
}
