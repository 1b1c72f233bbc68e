// Pattern finding on a 1280 x 1024 tray beside the yardstick, all on one thread, in a process that keeps its
// memory as a station does. Prints the ratios at the end, and what each further part on the tray costs.
#include <benchmark/benchmark.h>
#include <tbb/global_control.h>

#include <algorithm>
#include <chrono>
#include <cstdio>
#include <functional>
#include <vector>

#include "fft_correlation.hpp"
#include "heron/base/memory.hpp"
#include "heron/locate/pattern.hpp"
#include "heron/locate/prepared_picture.hpp"
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

/// From the picture in memory to the detections: prepared picture and find.
void find_in(benchmark::State& state, const Image<uint8_t>& picture, const FindOptions& options) {
  size_t found = 0;
  for (auto _ : state) {
    const PreparedPicture prepared{Image<uint8_t>(picture)};
    found = find(shared().target, prepared, options, Explain::never).detections.size();
    benchmark::DoNotOptimize(found);
  }
  state.counters["found"] = static_cast<double>(found);
}

void find_360(benchmark::State& state) { find_in(state, shared().picture, {}); }
void find_360_scaled(benchmark::State& state) { find_in(state, shared().picture, {.scale = {0.8, 1.2}}); }
void find_360_empty(benchmark::State& state) { find_in(state, shared().empty, {}); }
void find_360_five(benchmark::State& state) { find_in(state, shared().full, {}); }
void find_360_either(benchmark::State& state) {
  find_in(state, shared().picture, {.inversion = Inversion::whole});
}
void find_360_per_edge(benchmark::State& state) {
  find_in(state, shared().picture, {.inversion = Inversion::local});
}
void find_360_per_edge_scaled(benchmark::State& state) {
  find_in(state, shared().picture, {.scale = {0.8, 1.2}, .inversion = Inversion::local});
}

/// Two targets in one picture: on one prepared picture, and each on a prepared picture of its own.
void find_two(benchmark::State& state, bool shared_picture) {
  static const PatternTarget second = teach_pattern(
      shared().taught, Region::rectangle(shared().middle, 150, 100, {}), {.name = "leaf's middle"});
  for (auto _ : state) {
    const PreparedPicture prepared{Image<uint8_t>(shared().full)};
    benchmark::DoNotOptimize(find(shared().target, prepared, {}, Explain::never));
    if (shared_picture) {
      benchmark::DoNotOptimize(find(second, prepared, {}, Explain::never));
    } else {
      const PreparedPicture again{Image<uint8_t>(shared().full)};
      benchmark::DoNotOptimize(find(second, again, {}, Explain::never));
    }
  }
}
void two_targets_one_preparation(benchmark::State& state) { find_two(state, true); }
void two_targets_two_preparations(benchmark::State& state) { find_two(state, false); }

BENCHMARK(fft_correlation_one_angle)->Unit(benchmark::kMillisecond);
BENCHMARK(find_360)->Unit(benchmark::kMillisecond);
BENCHMARK(find_360_scaled)->Unit(benchmark::kMillisecond);
BENCHMARK(find_360_empty)->Unit(benchmark::kMillisecond);
BENCHMARK(find_360_five)->Unit(benchmark::kMillisecond);
BENCHMARK(find_360_either)->Unit(benchmark::kMillisecond);
BENCHMARK(find_360_per_edge)->Unit(benchmark::kMillisecond);
BENCHMARK(find_360_per_edge_scaled)->Unit(benchmark::kMillisecond);
BENCHMARK(two_targets_one_preparation)->Unit(benchmark::kMillisecond);
BENCHMARK(two_targets_two_preparations)->Unit(benchmark::kMillisecond);

/// Five parts less one, by four: a small difference of large times, so all are timed in turn and the median
/// of the shares is told.
void tell_further_part() {
  constexpr int rounds = 301;  // some phases of a busy machine
  const tbb::global_control one_thread(tbb::global_control::max_allowed_parallelism, 1);
  Bench& b = shared();
  bench::FftCorrelation correlation(b.picture, b.target.pixels());
  const auto seconds = [](const std::function<void()>& run) {
    const auto begun = std::chrono::steady_clock::now();
    run();
    return std::chrono::duration<double>(std::chrono::steady_clock::now() - begun).count();
  };
  const auto search = [&](const Image<uint8_t>& picture) {
    return [&] { find(b.target, PreparedPicture(Image<uint8_t>(picture)), {}, Explain::never); };
  };
  std::vector<double> shares;
  for (int i = 0; i < rounds; ++i) {
    const double yardstick = seconds([&] { correlation.run(); });
    // What the correlation has pushed out of the caches, the pictures too, is back for both.
    search(b.picture)(), search(b.full)();
    const double one = seconds(search(b.picture)), five = seconds(search(b.full));
    shares.push_back((five - one) / 4 / yardstick);
  }
  std::nth_element(shares.begin(), shares.begin() + rounds / 2, shares.end());
  std::printf("  %-24s %.4f (median of %d rounds)\n", "each further part", shares[rounds / 2], rounds);
}

}  // namespace

int main(int argc, char** argv) {
  keep_freed_memory();
  const int status = bench::run_on_one_thread(argc, argv);
  if (status == 0) tell_further_part();
  return status;
}
