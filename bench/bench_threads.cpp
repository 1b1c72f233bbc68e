// What a second thread brings to a find, beside what it brings to two kernels that only compute, in the same
// run: one number at a time, and whole vectors, as finds do. Two processors of one core share its units, and
// several that compute with wide vectors run slower than one, so the kernels' own gains are the measure.
#include <tbb/global_control.h>

#include <algorithm>
#include <chrono>
#include <cmath>
#include <cstdio>
#include <functional>
#include <vector>

#include "heron/base/memory.hpp"
#include "heron/image/noise.hpp"
#include "heron/image/parallel.hpp"
#include "heron/locate/pattern.hpp"
#include "heron/locate/survey.hpp"
#include "heron/render/tray_station.hpp"

using namespace heron;
using namespace heron::render;

namespace {

double ms_of(const std::function<void()>& run) {
  const auto begun = std::chrono::steady_clock::now();
  run();
  return std::chrono::duration<double, std::milli>(std::chrono::steady_clock::now() - begun).count();
}

/// One piece of work; what `prepare` does is not timed.
struct Job {
  const char* name;
  std::function<void()> run, prepare = [] {};
  std::vector<double> ms[3] = {}, gains = {};          ///< by threads
  std::vector<double> of_plain = {}, of_vectors = {};  ///< shares of the kernels' gains in the same round
};

double median(std::vector<double> v) {
  std::nth_element(v.begin(), v.begin() + static_cast<std::ptrdiff_t>(v.size() / 2), v.end());
  return v[v.size() / 2];
}

/// All jobs on one and two threads by turns, so that a busy minute of the machine slows them all; each time
/// twice, of which the second counts, as a station has just found in the picture before. The first two
/// are the kernels that the others are compared with.
void time_by_turns(std::vector<Job>& jobs) {
  constexpr int rounds = 101;
  for (int i = 0; i < rounds; ++i)
    for (Job& job : jobs) {
      for (const size_t threads : {1, 2}) {
        const tbb::global_control control(tbb::global_control::max_allowed_parallelism, threads);
        double ms = 0;
        for (int time = 0; time < 2; ++time) job.prepare(), ms = ms_of(job.run);
        job.ms[threads].push_back(ms);
      }
      job.gains.push_back(job.ms[1].back() / job.ms[2].back());
      job.of_plain.push_back(100 * job.gains.back() / jobs[0].gains.back());
      if (!jobs[1].gains.empty()) job.of_vectors.push_back(100 * job.gains.back() / jobs[1].gains.back());
    }
}

Image<uint8_t> photographed(const Scene& scene, uint64_t seed) {
  Random random(seed);
  return expose(exact_picture(scene), {.sigma = 2}, random);
}

}  // namespace

int main() {
  keep_freed_memory();  // as stations do
  const TrayStation station = make_tray_station(1001, {.views = 1, .leaves = 5, .others = 6});
  const Pose2 tile = station.teach.tiles[0].table_from_tile;
  const PatternTarget target =
      teach_pattern(photographed(station.teach.scene, 1),
                    Region::rectangle(station.camera.project({tile.x, tile.y, 0}), 204, 152, {}));
  const Image<uint8_t> picture = photographed(station.views[0].scene, 2);
  std::vector<double> sums(256);
  Image<uint8_t> taken;  // by the survey, as a station's from its camera
  const auto take = [&] { taken = picture; };
  const auto find_within = [&](const FindLimits& limits) {
    find(target, Survey(std::move(taken)), limits, Explain::never);
  };
  Image<uint8_t> small(256, 66);  // lies in the nearest cache
  for (int y = 0; y < small.height(); ++y) std::fill_n(small.row(y), small.width(), uint8_t(y * y));
  std::vector<Job> jobs{{"plain kernel",
                         [&] {
                           parallel_rows(256, 4, [&](int first, int end) {
                             for (int i = first; i < end; ++i) {
                               double sum = 0;
                               for (int k = 1; k < 20000; ++k) sum += std::sqrt(static_cast<double>(k + i));
                               sums[static_cast<size_t>(i)] = sum;
                             }
                           });
                         }},
                        {"vector kernel",
                         [&] {
                           parallel_rows(256, 4, [&](int first, int end) {
                             for (int i = first; i < end; ++i)
                               for (int again = 0; again < 5; ++again)
                                 sums[static_cast<size_t>(i)] = noise_sigma(small);
                           });
                         }},
                        {"find, five parts", [&] { find_within({}); }, take},
                        {"find, five parts, scaled",
                         [&] {
                           find_within({.scale = {0.8, 1.2}});
                         },
                         take}};
  time_by_turns(jobs);
  for (const Job& job : jobs)
    std::printf(
        "  %-28s one thread %7.2f ms, two %7.2f ms: %.2f times as fast, %.0f %% of the plain kernel's gain, "
        "%.0f %% of the vector kernel's\n",
        job.name, median(job.ms[1]), median(job.ms[2]), median(job.gains), median(job.of_plain),
        median(job.of_vectors));
}
