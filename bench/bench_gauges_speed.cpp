// Twenty gauges on each of ten parts beside the yardstick, on one thread, from the detections to the
// verdicts.
#include <benchmark/benchmark.h>

#include "fft_correlation.hpp"
#include "gauge/bench_pictures.hpp"
#include "ratios.hpp"

using namespace heron;
using render::BenchDisc;

namespace {

/// Ten stencil discs of 20 mm in 1280 x 1024 pixels, and their detections.
struct Tray {
  Image<uint8_t> picture;
  GaugeSet set;
  Report found;
  std::unique_ptr<PreparedPicture> prepared;
};

std::vector<Gauge> twenty_gauges(const Pose2& pose) {
  using inspection::band, inspection::ring, inspection::box;
  std::vector<Gauge> gauges;
  const auto add = [&](std::string name, GaugeKind kind, bool combines = false) {
    Gauge g{.name = std::move(name), .anchor = combines ? "" : "disc"};
    g.kind = std::move(kind), g.limits = {0.0, 1000.0};
    gauges.push_back(std::move(g));
  };
  for (int i = 0; i < 8; ++i) {
    const double turn = 45.0 * i + 10;
    add("edge" + std::to_string(i), EdgeGauge{.band = band(pose, unit(degrees(turn)) * 20, 10, 6, turn)});
  }
  for (int i = 0; i < 4; ++i)
    add("width" + std::to_string(i),
        WidthGauge{.band = band(pose, {0, 3.0 * i - 5}, 48, 4, 0), .pair = WidthPair::outermost});
  add("rim", CircleGauge{.ring = ring(pose, {}, 15, 25)});
  add("teeth", RepeatsGauge{.ring = ring(pose, {}, 10, 12)});
  add("fill", FillGauge{.box = box(pose, {}, 12, 8), .levels = {0, 100}});
  add("blobs", BlobsGauge{.tone = BlobTone::dark, .min_area = 20}),
      std::get<BlobsGauge>(gauges.back().kind).box = box(pose, {}, 24, 20);
  for (int i = 0; i < 4; ++i)
    add("distance" + std::to_string(i),
        DistanceGauge{.between = {"edge" + std::to_string(i), "edge" + std::to_string(i + 4)}}, true);
  return gauges;
}

Tray make_tray() {
  render::Scene scene;
  scene.camera = render::straight_camera(1280, 1024, inspection::scale), scene.width = 1280, scene.height = 1024,
  scene.background = 0.3;
  Tray tray;
  for (int i = 0; i < 10; ++i) {
    const Pose2 pose{-120.0 + 60 * (i % 5), i < 5 ? 50.0 : -50.0, degrees(37 * i)};
    auto pieces = render::pieces_of(BenchDisc{.radius_mm = 20}, pose);
    for (size_t k = 2; k < pieces.size(); ++k) pieces[k].outline = render::scaled(pieces[k].outline, 0.5);
    scene.pieces.insert(scene.pieces.end(), pieces.begin(), pieces.end());
    ReportedPart part;
    part.detection = {.target = "disc",
                      .x = 639.5 + inspection::scale * pose.x,
                      .y = 511.5 - inspection::scale * pose.y,
                      .angle = -pose.angle,
                      .score = 99};
    tray.found.parts.push_back(part);
  }
  render::Random random(4);
  tray.picture = render::expose(render::exact_picture(scene), {.sigma = 2}, random);
  // Shapes are drawn about a part that lies at the middle of a picture of its own.
  tray.set.targets.push_back({.name = "disc", .file = "disc.png"});
  const Point2 middle = inspection::pixel({});
  tray.set.targets[0].reference = {middle.x, middle.y, {}, 1};
  tray.set.gauges = twenty_gauges({});
  tray.prepared = std::make_unique<PreparedPicture>(Image<uint8_t>(tray.picture));
  return tray;
}

const Tray& tray() {
  static const Tray t = make_tray();
  return t;
}

void fft_correlation_one_angle(benchmark::State& state) {
  Image<uint8_t> part(200, 200);
  for (int y = 0; y < 200; ++y)
    for (int x = 0; x < 200; ++x) part(x, y) = tray().picture(x + 300, y + 200);
  bench::FftCorrelation correlation(tray().picture, part);
  for (auto _ : state) benchmark::DoNotOptimize(correlation.run());
}

void twenty_gauges_on_ten_parts(benchmark::State& state) {
  size_t good = 0, readings = 0;
  for (auto _ : state) {
    Report report = tray().found;
    measure(report, tray().set, *tray().prepared);
    good = 0, readings = report.readings.size();
    for (const Reading& r : report.readings) good += r.state == Verdict::good;
  }
  state.counters["readings"] = static_cast<double>(readings);
  state.counters["good"] = static_cast<double>(good);
}

/// The gauges of one kind alone, on ten parts.
void one_kind(benchmark::State& state, const char* kind) {
  GaugeSet set = tray().set;
  std::erase_if(set.gauges, [&](const Gauge& g) { return kind_of(g) != std::string(kind); });
  const auto count = static_cast<double>(10 * set.gauges.size());
  for (auto _ : state) {
    Report report = tray().found;
    measure(report, set, *tray().prepared);
  }
  state.counters["readings"] = count;
}

BENCHMARK_CAPTURE(one_kind, edge, "edge")->Unit(benchmark::kMillisecond);
BENCHMARK_CAPTURE(one_kind, width, "width")->Unit(benchmark::kMillisecond);
BENCHMARK_CAPTURE(one_kind, circle, "circle")->Unit(benchmark::kMillisecond);
BENCHMARK_CAPTURE(one_kind, repeats, "repeats")->Unit(benchmark::kMillisecond);
BENCHMARK_CAPTURE(one_kind, fill, "fill")->Unit(benchmark::kMillisecond);
BENCHMARK_CAPTURE(one_kind, blobs, "blobs")->Unit(benchmark::kMillisecond);
BENCHMARK(fft_correlation_one_angle)->Unit(benchmark::kMillisecond);
BENCHMARK(twenty_gauges_on_ten_parts)->Unit(benchmark::kMillisecond);

}  // namespace

int main(int argc, char** argv) { return bench::run_on_one_thread(argc, argv); }
