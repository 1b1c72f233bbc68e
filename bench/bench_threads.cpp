// What a second thread brings to a find, beside what it brings to a plain kernel that only computes, in the
// same run. One thread is timed on each of two processors by turns: what else the machine does often slows
// only one of them, and the gain would tell which one that was.
#include <sched.h>
#include <tbb/global_control.h>

#include <algorithm>
#include <chrono>
#include <cmath>
#include <cstdio>
#include <functional>
#include <vector>

#include "heron/base/memory.hpp"
#include "heron/locate/pattern.hpp"
#include "heron/locate/prepared_picture.hpp"
#include "heron/render/tray_station.hpp"
#include "image/parallel.hpp"

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
  std::vector<double> ms[3] = {}, gains = {};  ///< by threads
  std::vector<double> shares = {};             ///< of the kernel's gain in the same round
};

double median(std::vector<double> v) {
  std::nth_element(v.begin(), v.begin() + static_cast<std::ptrdiff_t>(v.size() / 2), v.end());
  return v[v.size() / 2];
}

/// The processors that this process may use.
std::vector<int> processors() {
  cpu_set_t set;
  sched_getaffinity(0, sizeof set, &set);
  std::vector<int> all;
  for (int i = 0; i < CPU_SETSIZE; ++i)
    if (CPU_ISSET(i, &set)) all.push_back(i);
  return all;
}

/// The calling thread runs on these alone.
void run_on(const std::vector<int>& which) {
  cpu_set_t set;
  CPU_ZERO(&set);
  for (const int i : which) CPU_SET(i, &set);
  sched_setaffinity(0, sizeof set, &set);
}

/// A job on so many threads, twice, of which the second time counts: a station has just found in the picture
/// before.
double ms_on(size_t threads, const Job& job) {
  const tbb::global_control control(tbb::global_control::max_allowed_parallelism, threads);
  job.prepare(), job.run();
  job.prepare();
  return ms_of(job.run);
}

/// All jobs on one and two threads by turns, so that a busy minute of the machine slows them all. The first
/// is the kernel that the others are compared with.
void time_by_turns(std::vector<Job>& jobs) {
  constexpr int rounds = 101;
  const std::vector<int> all = processors();
  for (int i = 0; i < rounds; ++i)
    for (Job& job : jobs) {
      run_on({all.front()});
      const double first = ms_on(1, job);
      run_on({all.back()});
      const double last = ms_on(1, job);
      run_on(all);
      job.ms[1].push_back(2 / (1 / first + 1 / last));
      job.ms[2].push_back(ms_on(2, job));
      job.gains.push_back(job.ms[1].back() / job.ms[2].back());
      job.shares.push_back(100 * job.gains.back() / jobs[0].gains.back());
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
  Image<uint8_t> taken;  // by the prepared picture, as a station's from its camera
  const auto take = [&] { taken = picture; };
  const auto find_within = [&](const FindOptions& options) {
    find(target, PreparedPicture(std::move(taken)), options, Explain::never);
  };
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
                        {"find, five parts", [&] { find_within({}); }, take},
                        {"find, five parts, scaled",
                         [&] {
                           find_within({.scale = {0.8, 1.2}});
                         },
                         take}};
  time_by_turns(jobs);
  for (const Job& job : jobs)
    std::printf(
        "  %-28s one thread %7.2f ms, two %7.2f ms: %.2f times as fast, %.0f %% of the kernel's gain\n",
        job.name, median(job.ms[1]), median(job.ms[2]), median(job.gains), median(job.shares));
}
