// Pattern finding on a 1280 x 1024 tray beside the yardstick, all on one thread. Prints the ratios at the
// end.
#include <benchmark/benchmark.h>

#include <algorithm>
#include <cstdio>
#include <map>

#include "fft_correlation.hpp"
#include "heron/locate/pattern.hpp"
#include "heron/locate/survey.hpp"
#include "heron/render/tray_station.hpp"
#include "ratios.hpp"

using namespace heron;
using namespace heron::render;

namespace {

Image<uint8_t> photographed(const Scene& scene, uint64_t seed) {
  Random random(seed);
  return expose(exact_picture(scene), {.sigma = 2, .electrons = 20000}, random);
}

/// A seed that nothing was tuned on.
struct Bench {
  TrayStation one = make_tray_station(1001, {.views = 1, .leaves = 1, .others = 8});
  TrayStation five = make_tray_station(1001, {.views = 1, .leaves = 5, .others = 6});
  TrayStation none = make_tray_station(1001, {.views = 1, .leaves = 0, .others = 0});
  Image<uint8_t> taught = photographed(one.teach.scene, 1), picture = photographed(one.views[0].scene, 2),
                 full = photographed(five.views[0].scene, 3), empty = photographed(none.views[0].scene, 4);
  Point2 middle =
      one.camera.project({one.teach.tiles[0].table_from_tile.x, one.teach.tiles[0].table_from_tile.y, 0});
  PatternTarget target = teach_pattern(taught, Region::rectangle(middle, 204, 152, {}), {.name = "leaf"});
};

Bench& shared() {
  static Bench bench;
  return bench;
}

void fft_correlation_one_angle(benchmark::State& state) {
  Bench& b = shared();
  bench::FftCorrelation correlation(b.picture, b.target.pixels());
  for (auto _ : state) benchmark::DoNotOptimize(correlation.run());
}

/// From the picture in memory to the sightings: survey and find.
void find_in(benchmark::State& state, const Image<uint8_t>& picture, const FindLimits& limits) {
  size_t found = 0;
  for (auto _ : state) {
    const Survey survey{Image<uint8_t>(picture)};
    found = find(shared().target, survey, limits, Explain::never).sightings.size();
    benchmark::DoNotOptimize(found);
  }
  state.counters["found"] = static_cast<double>(found);
}

void find_360(benchmark::State& state) { find_in(state, shared().picture, {}); }
void find_360_scaled(benchmark::State& state) { find_in(state, shared().picture, {.scale = {0.8, 1.2}}); }
void find_360_empty(benchmark::State& state) { find_in(state, shared().empty, {}); }
void find_360_five(benchmark::State& state) { find_in(state, shared().full, {}); }

/// Two targets in one picture: on one survey, and each on a survey of its own.
void find_two(benchmark::State& state, bool shared_survey) {
  static const PatternTarget second = teach_pattern(
      shared().taught, Region::rectangle(shared().middle, 150, 100, {}), {.name = "leaf's middle"});
  for (auto _ : state) {
    const Survey survey{Image<uint8_t>(shared().full)};
    benchmark::DoNotOptimize(find(shared().target, survey, {}, Explain::never));
    if (shared_survey) {
      benchmark::DoNotOptimize(find(second, survey, {}, Explain::never));
    } else {
      const Survey again{Image<uint8_t>(shared().full)};
      benchmark::DoNotOptimize(find(second, again, {}, Explain::never));
    }
  }
}
void two_targets_one_survey(benchmark::State& state) { find_two(state, true); }
void two_targets_two_surveys(benchmark::State& state) { find_two(state, false); }

BENCHMARK(fft_correlation_one_angle)->Unit(benchmark::kMillisecond);
BENCHMARK(find_360)->Unit(benchmark::kMillisecond);
BENCHMARK(find_360_scaled)->Unit(benchmark::kMillisecond);
BENCHMARK(find_360_empty)->Unit(benchmark::kMillisecond);
BENCHMARK(find_360_five)->Unit(benchmark::kMillisecond);
BENCHMARK(two_targets_one_survey)->Unit(benchmark::kMillisecond);
BENCHMARK(two_targets_two_surveys)->Unit(benchmark::kMillisecond);

}  // namespace

int main(int argc, char** argv) { return bench::run_on_one_thread(argc, argv); }
