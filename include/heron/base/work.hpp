#pragma once
#include <atomic>
#include <cstdint>

namespace heron {

/// Counts work and carries the wish to stop. The core adds to it and looks at it; clocks live above.
class Work {
 public:
  void add(int64_t units) { done_.fetch_add(units, std::memory_order_relaxed); }
  int64_t done() const { return done_.load(std::memory_order_relaxed); }
  void stop() { stopped_.store(true, std::memory_order_relaxed); }
  bool stopped() const { return stopped_.load(std::memory_order_relaxed); }

 private:
  std::atomic<int64_t> done_{0};
  std::atomic<bool> stopped_{false};
};

}  // namespace heron
