#pragma once
#include <benchmark/benchmark.h>

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

}  // namespace heron::bench
