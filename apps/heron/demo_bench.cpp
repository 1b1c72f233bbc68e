#include <fmt/format.h>

#include <cmath>
#include <map>

#include "commands.hpp"
#include "gauge.hpp"
#include "gauge_crops.hpp"
#include "gauge_table.hpp"
#include "heron/draw/overlay.hpp"
#include "heron/files/gauge_file.hpp"
#include "heron/files/picture_file.hpp"
#include "heron/files/target_file.hpp"
#include "heron/gauge/measure.hpp"
#include "heron/simulation/bench_cell.hpp"
#include "options.hpp"
#include "steps.hpp"

namespace heron::tool {
namespace {

using T = BenchTolerances;

/// Draws gauges on the reference part of a family, from millimetres of its drawing.
class Drawing {
 public:
  Drawing(const BenchCell& cell, const std::string& family, const MappingRecord& mapping)
      : cell_(cell), family_(cell.family(family)), frames_{&mapping.mapping} {
    const Picture picture = load_picture(cell.path(family_.reference));
    if (const auto* color = std::get_if<Image<Rgb>>(&picture.pixels)) color_ = Image<Rgb>(color->view());
    grey_ = grey_levels(picture);
    reference_ = color_.empty() ? std::make_unique<PreparedPicture>(Image<uint8_t>(grey_))
                                : std::make_unique<PreparedPicture>(Image<Rgb>(color_.view()));
    set_.reference_picture = family_.reference;
    set_.guard = 2;
  }

  Point2 at(Point2 mm) const { return cell_.pixel(family_, mm); }
  Angle turn() const { return direction(at({1, 0}) - at({0, 0})); }
  double scale() const { return distance(at({1, 0}), at({0, 0})); }
  std::vector<double> band(Point2 mm, double length, double across, double towards_deg) const {
    const Point2 p = at(mm);
    return {p.x, p.y, length * scale(), across * scale(), (turn() - degrees(towards_deg)).degrees()};
  }
  std::vector<double> ring(Point2 mm, double inner, double outer, double start_deg = 0,
                           double sweep_deg = 360) const {
    const Point2 p = at(mm);
    return {p.x, p.y, inner * scale(), outer * scale(), (turn() - degrees(start_deg)).degrees(), sweep_deg};
  }
  std::vector<double> box(Point2 mm, double width, double height) const {
    const Point2 p = at(mm);
    return {p.x, p.y, width * scale(), height * scale(), turn().degrees()};
  }
  Region turned(Point2 mm, double width, double height) const {
    return Region::rectangle(at(mm), width * scale(), height * scale(), turn());
  }

  /// Teaches a target on the reference picture, keeps its file, and attaches it.
  void teach(const std::string& kind, const std::string& name, const Region& region,
             TeachOptions options = {}) {
    options.name = name;
    Target target = teach_target(kind, {.grey = grey_, .color = color_, .region = region}, options);
    if (kind == "pattern") {
      FindOptions all = target.options();
      all.max_count = FindOptions::all;
      target = target.with(all);
    }
    save_target(cell_.path(name + ".png"), target);
    auto there = attached(target, name + ".png", *reference_, region.bounds().centre());
    set_.targets.push_back(
        there
            ? *there
            : GaugeTarget{.name = name, .file = name + ".png", .stamp = stamp_of(target), .target = target});
  }
  void add(const std::string& name, const std::string& anchor, GaugeKind kind, Limits limits = {},
           const char* unit = "") {
    Gauge gauge{.name = name, .anchor = anchor};
    gauge.limits = limits, gauge.unit = limits.any() ? unit : "", gauge.kind = std::move(kind);
    add_gauge(set_, std::move(gauge), *reference_, frames_);
  }
  const GaugeSet& save() const {
    save_gauges(cell_.path(family_.name + "-gauges.toml"), set_);
    return set_;
  }

 private:
  const BenchCell& cell_;
  const BenchFamily& family_;
  Frames frames_;
  Image<uint8_t> grey_;
  Image<Rgb> color_;
  std::unique_ptr<PreparedPicture> reference_;
  GaugeSet set_;
};

Limits about(double nominal, double tolerance) { return {nominal - tolerance, nominal + tolerance}; }

GaugeSet panel_gauges(Drawing d) {
  using P = render::BenchPanel;
  Region region = d.turned({}, P::width_mm + 8, P::height_mm + 8);
  for (const auto& [x, y, w, h] : {std::array<double, 4>{-35, -8, 14, 46},
                                   {35, -8, 14, 46},
                                   {0, 24, 20, 20},
                                   {0, -6, 32, 24},
                                   {32, -40, 14, 12},
                                   {60, 0, 8, 70}})
    region.subtract(d.turned({x, y}, w, h));
  d.teach("pattern", "panel", region, {.name = "", .origin = d.at({})});
  d.teach("pattern", "insert", d.turned(P::insert_at, 28, 20), {.name = "", .origin = d.at(P::insert_at)});
  std::vector<double> corners;
  for (const Point2 p : {Point2{-60, 24}, {-44, 40}, {60, 40}, {60, -40}, {-60, -40}})
    corners.push_back(d.at(p).x), corners.push_back(d.at(p).y);
  d.teach("border", "rim", d.turned({}, P::width_mm + 30, P::height_mm + 30),
          {.name = "", .settings = {{"polyline", corners}, {"chip_width", 20.0}}});
  d.add("left slot", "panel", WidthGauge{.band = d.band({-35, -8}, 20, 30, 0), .tone = WidthTone::dark});
  d.add("right slot", "panel", WidthGauge{.band = d.band({35, -8}, 20, 30, 0), .tone = WidthTone::dark});
  d.add("slot distance", "", DistanceGauge{.between = {"left slot", "right slot"}},
        about(70, T::slot_distance_mm), "mm");
  d.add("hole", "panel", CircleGauge{.ring = d.ring(P::hole_at, 4, 11)}, about(14, T::hole_mm), "mm");
  d.add("lower side", "panel", EdgeGauge{.band = d.band({-20, -40}, 14, 60, 90)});
  d.add("right side", "panel", EdgeGauge{.band = d.band({60, 0}, 14, 60, 180)});
  d.add("squareness", "", AngleGauge{.between = {"lower side", "right side"}}, about(90, T::side_deg), "deg");
  d.add("insert place", "panel", DetailGauge{.target = "insert"}, {{}, T::insert_mm}, "mm");
  d.add("insert angle", "", ValueGauge{.of = "insert place", .reads = "angle"}, about(0, T::insert_deg),
        "deg");
  d.add("chip", "panel", BorderGauge{.target = "rim", .reads = BorderReading::depth}, {{}, T::chip_mm}, "mm");
  return d.save();
}

GaugeSet trowel_gauges(Drawing d) {
  d.teach("pattern", "trowel", d.turned({0, 14}, 106, 26), {.name = "", .origin = d.at({0, 12})});
  d.add("teeth", "trowel", RepeatsGauge{.band = d.band({0, -3.5}, 100, 3, 0)}, {10.0, 10.0});
  d.add("pitch error", "", ValueGauge{.of = "teeth", .reads = "error"}, {{}, T::pitch_error_mm}, "mm");
  d.add("missing teeth", "", ValueGauge{.of = "teeth", .reads = "missing"}, {{}, 0.0});
  return d.save();
}

GaugeSet disc_gauges(Drawing d) {
  d.teach("pattern", "disc", d.turned({0, 0}, 44, 24), {.name = "", .origin = d.at({})});
  d.add("rim", "disc", CircleGauge{.ring = d.ring({}, 27, 38, 75, 330), .change = EdgeChange::falling});
  d.add("roundness", "", ValueGauge{.of = "rim", .reads = "roundness"}, {{}, T::roundness_mm + 0.1}, "mm");
  d.add("notch edge", "disc",
        EdgeGauge{
            .ring = d.ring({}, 29.8, 31, 60, -60), .change = EdgeChange::falling, .order = EdgeOrder::first});
  const double half =
      std::asin(2.5 / 30.4) * 180 / std::numbers::pi;  // of the notch at the ring's middle radius
  d.add("notch", "", ValueGauge{.of = "notch edge", .reads = "angle"}, about(30 - half, T::notch_deg), "deg");
  return d.save();
}

GaugeSet board_gauges(Drawing d) {
  using B = render::BenchBoard;
  d.teach("pattern", "board", d.turned({}, 98, 72).subtract(d.turned({}, 74, 50)),
          {.name = "", .origin = d.at({})});
  for (const auto& [name, chip] : {std::pair{"teal", 0}, {"amber", 1}, {"rose", 2}})
    d.teach("color", name, d.turned(B::chip_at(chip), 12, 12));
  const char* glazes[] = {"teal", "amber", "rose", "rose", "teal", "amber"};
  for (int i = 0; i < 6; ++i)
    d.add(fmt::format("chip {}", i + 1), "board",
          FillGauge{.box = d.box(B::chip_at(i), 13, 13), .color = glazes[i]}, {95.0, {}}, "%");
  d.add("number", "board", CropGauge{.box = d.box({}, B::number_mm + 4, B::digit_mm + 3)});
  return d.save();
}

/// Heights need no target: a pile stands where its pallet is put.
GaugeSet stack_gauges(const BenchCell& cell) {
  GaugeSet set;
  set.reference_picture = cell.family("stack").reference, set.guard = 2;
  const auto add = [&](const char* name, GaugeKind kind, Limits limits, const char* unit) {
    Gauge gauge{.name = name, .anchor = "picture"};
    gauge.limits = limits, gauge.unit = unit, gauge.kind = std::move(kind);
    set.gauges.push_back(std::move(gauge));
  };
  add("step", ProfileGauge{.band = {199.5, 149.5, 240, 60, 0}}, about(3, T::step_mm), "mm");
  add("slope", ProfileGauge{.band = {275, 149.5, 120, 60, 0}, .reads = ProfileReading::slope},
      about(0, T::slope_deg), "deg");
  save_gauges(cell.path("stack-gauges.toml"), set);
  return set;
}

/// One part's verdict beside the truth.
struct Compared {
  int parts = 0, right = 0, named = 0, bad = 0;
};

/// The part of the report that lies where the truth says; their number when it was not found.
size_t part_at(Point2 at, const Report& report) {
  size_t i = 0;
  while (i < report.parts.size() &&
         distance({report.parts[i].detection.x, report.parts[i].detection.y}, at) >= 100)
    ++i;
  return i;
}

void compare(const BenchCell& cell, const BenchFamily& family, const BenchPicture& picture,
             const Report& report, Compared& sum) {
  for (const BenchPart& part : picture.parts) {
    const bool of_picture = family.name == "stack";
    const size_t found =
        part_at(cell.camera.project({part.table_from_part.x, part.table_from_part.y, 0}), report);
    std::string judged = "part not found", by;
    Verdict verdict = Verdict::not_found;
    if (of_picture || found < report.parts.size()) {
      verdict = (of_picture ? report.verdict : report.parts[found].verdict).value_or(Verdict::not_measured);
      judged = word_of(verdict);
      for (const Reading& r : report.readings)
        if ((of_picture || r.part == found) && r.state != Verdict::good)
          by += fmt::format("{}{}", by.empty() ? "" : ", ", r.gauge);
    }
    const bool good = part.defect.empty(), right = good == (verdict == Verdict::good);
    ++sum.parts, sum.right += right, sum.bad += !good;
    sum.named += !good && by.find(part.defect) != std::string::npos;
    fmt::print("   {:<22} {:<24} {:<14} {:<28} {}\n", picture.file, good ? "good" : "bad: " + part.defect,
               judged, by.empty() ? "-" : by, right ? "right" : "WRONG");
  }
}

int run_demo_bench(uint64_t seed, const std::string& folder, int pictures) {
  fmt::print("1  the bench     heron simulate bench --seed {} --output {}\n", seed, folder);
  const BenchCell cell = write_bench_cell(folder, seed, {.pictures = pictures});
  const BoardShape& b = cell.board;
  fmt::print(
      "2  the mapping   heron calibrate --board dots --columns {} --rows {} --pitch {:g} board.png --output "
      "mapping.toml\n",
      b.columns, b.rows, b.pitch_mm);
  BoardSummary seen;
  auto record = mapping_from_pictures({cell.path("board.png")}, b, seen);
  if (!record) return 1;
  save_mapping(cell.path("mapping.toml"), *record);
  fmt::print("3  the gauges    drawn on the reference pictures: heron gauge list panel-gauges.toml\n");
  const std::map<std::string, GaugeSet> sets{{"panel", panel_gauges(Drawing(cell, "panel", *record))},
                                             {"trowel", trowel_gauges(Drawing(cell, "trowel", *record))},
                                             {"disc", disc_gauges(Drawing(cell, "disc", *record))},
                                             {"board", board_gauges(Drawing(cell, "board", *record))},
                                             {"stack", stack_gauges(cell)}};
  fmt::print(
      "4  the work      heron gauge measure panel-gauges.toml panel/panel-01.png --mapping mapping.toml\n\n");
  fmt::print("   {:<22} {:<24} {:<14} {:<28} {}\n", "picture", "truth", "verdict", "not good", "");
  Compared sum;
  for (const BenchFamily& family : cell.families)
    for (const BenchPicture& picture : family.pictures) {
      const GaugeSet& set = sets.at(family.name);
      const Picture taken = load_picture(cell.path(picture.file));
      const PreparedPicture prepared = prepare(taken, set);
      const std::optional<HeightMap> heights = height_map_of(taken);
      Report report = find_and_measure(set, prepared, heights ? Frames{} : Frames{&record->mapping},
                                       {.heights = heights});
      report.picture = picture.file;
      compare(cell, family, picture, report, sum);
      save_crops(cell.path("numbers"), report);
      save_picture(cell.path("judged-" + std::filesystem::path(picture.file).stem().string() + ".png"),
                   draw_over(prepared, report));
    }
  const bool good = sum.right == sum.parts && sum.named == sum.bad;
  fmt::print(
      "\nseed {}: {} parts, {} verdicts right; of {} bad parts {} with the gauge that has the defect: {}\n",
      seed, sum.parts, sum.right, sum.bad, sum.named, good ? "reached" : "NOT reached");
  fmt::print(
      "Pictures: {0}/judged-panel-01.png and others; the boards' numbers, cut out for a reader: "
      "{0}/numbers/\n",
      folder);
  return good ? 0 : 1;
}

}  // namespace

void add_demo_bench(CLI::App& demo, Action& action) {
  struct BenchOptions {
    uint64_t seed = 1;
    int pictures = 3;
    std::string output = "heron-bench";
  };
  auto o = std::make_shared<BenchOptions>();
  CLI::App* c =
      demo.add_subcommand("bench", "Judges good and bad parts on the inspection bench, against the truth");
  c->add_option("--seed", o->seed, "seed of the random parts")->capture_default_str()->check(not_negative);
  c->add_option("--pictures", o->pictures,
                "pictures of each of four families, two parts in each, and of piles")
      ->capture_default_str()
      ->check(CLI::Range(1, 1000));
  c->add_option("--output", o->output, "folder for all files")->capture_default_str();
  c->footer("Example: heron demo bench --seed 3\nExit status 1 when a verdict differs from the truth.");
  c->callback([o, &action] { action = [o] { return run_demo_bench(o->seed, o->output, o->pictures); }; });
}

}  // namespace heron::tool
