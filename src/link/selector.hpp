#pragma once
#include <condition_variable>
#include <deque>
#include <mutex>
#include <optional>
#include <thread>

#include "heron/link/station_link.hpp"

namespace heron {

/// A set-up that a machine selected, and what became of it.
struct FinishedSelection {
  int setup = 0;
  CommandAnswer answer;
};

/// Selects set-ups in a thread of its own, one after the other, since loading may take a second, for which
/// neither a heartbeat nor a machine's question may wait.
class Selector {
 public:
  explicit Selector(std::function<CommandAnswer(int)> select);
  void want(int setup);
  /// Whether one is not finished, or not asked for with `finished`.
  bool busy() const;
  /// The next that is finished, in the order in which they were wanted.
  std::optional<FinishedSelection> finished();

 private:
  void work(const std::stop_token& over);

  std::function<CommandAnswer(int)> select_;
  mutable std::mutex mutex_;
  std::condition_variable_any wanted_;
  std::deque<int> wishes_;
  std::deque<FinishedSelection> finished_;
  std::jthread worker_;  ///< the last member: it ends before the others go
};

}  // namespace heron
