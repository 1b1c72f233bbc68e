#pragma once
#include <atomic>
#include <cstdint>

namespace heron {

/// Stops long work from outside and reports its progress. One token serves one call at a time; any thread may
/// look at it or stop it. The core has no clock: whoever sets a time limit calls `stop` when it is over.
class Work {
 public:
  /// Asks the work to end soon; what is sure by then is returned, marked as incomplete.
  void stop() { stopped_.store(true, std::memory_order_relaxed); }
  bool stopped() const { return stopped_.load(std::memory_order_relaxed); }

  /// Steps that are done, of those known so far; more may become known on the way.
  int64_t done() const { return done_.load(std::memory_order_relaxed); }
  int64_t planned() const { return planned_.load(std::memory_order_relaxed); }

  void plan(int64_t steps) { planned_.fetch_add(steps, std::memory_order_relaxed); }
  void advance(int64_t steps = 1) { done_.fetch_add(steps, std::memory_order_relaxed); }

 private:
  std::atomic<bool> stopped_ = false;
  std::atomic<int64_t> done_ = 0, planned_ = 0;
};

}  // namespace heron
