#pragma once
#include <algorithm>
#include <chrono>
#include <thread>

#include "heron/base/work.hpp"

namespace heron {

/// Sleeps until `time`, or until `stop` is stopped, which it looks at 20 times a second.
inline void pause_until(std::chrono::steady_clock::time_point time, const Work* stop) {
  using Clock = std::chrono::steady_clock;
  while (!(stop && stop->stopped())) {
    const auto left = time - Clock::now();
    if (left <= Clock::duration(0)) return;
    std::this_thread::sleep_for(std::min<Clock::duration>(left, std::chrono::milliseconds(50)));
  }
}

inline void pause(std::chrono::milliseconds length, const Work* stop) {
  pause_until(std::chrono::steady_clock::now() + length, stop);
}

}  // namespace heron
