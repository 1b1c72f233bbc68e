#pragma once
#include <benchmark/benchmark.h>
#include <tbb/global_control.h>

#include <algorithm>
#include <cstdio>
#include <map>
#include <string>

namespace heron::bench {

/// Collects times as they are printed, to set each against the yardstick.
class Ratios : public benchmark::ConsoleReporter {
 public:
  void ReportRuns(const std::vector<Run>& runs) override {
    ConsoleReporter::ReportRuns(runs);
    for (const Run& run : runs)
      if (run.run_type == Run::RT_Iteration) {
        double& best = times_.try_emplace(run.run_name.function_name, 1e300).first->second;
        best = std::min(best, run.GetAdjustedCPUTime());
      }
  }
  void print() const {
    const auto yardstick = times_.find("fft_correlation_one_angle");
    if (yardstick == times_.end()) return;
    std::printf(
        "\nshare of one yardstick (FFT correlation, one angle, one scale; best of the repetitions):\n");
    for (const auto& [name, time] : times_)
      if (name != yardstick->first) std::printf("  %-24s %.3f\n", name.c_str(), time / yardstick->second);
  }

 private:
  std::map<std::string, double> times_;
};

/// A benchmark program's whole `main`: everything on one thread, the ratios at the end.
inline int run_on_one_thread(int argc, char** argv) {
  const tbb::global_control one_thread(tbb::global_control::max_allowed_parallelism, 1);
  benchmark::Initialize(&argc, argv);
  if (benchmark::ReportUnrecognizedArguments(argc, argv)) return 2;
  Ratios ratios;
  benchmark::RunSpecifiedBenchmarks(&ratios);
  ratios.print();
  return 0;
}

}  // namespace heron::bench
