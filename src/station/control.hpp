#pragma once
#include <chrono>
#include <condition_variable>
#include <functional>
#include <mutex>

#include "heron/base/work.hpp"
#include "heron/link/outlet.hpp"
#include "heron/station/station_file.hpp"

namespace heron {

struct TriggerCounts {
  int64_t taken = 0;
  int64_t dropped = 0;  ///< they came while others were worked on
};

/// When a station may take its next picture: triggers, and hold. Commands come from any thread; one thread
/// waits.
class StationControl {
 public:
  explicit StationControl(const TriggerSettings& settings) : settings_(settings) {}

  CommandAnswer command(StationCommand command);
  /// Waits until a picture may be taken, and takes its trigger; false after a stop.
  bool wait(const Work* stop);
  void end();
  StationState state() const;
  TriggerCounts counts() const;
  /// Called after each change of the state.
  void on_change(std::function<void()> call) { changed_ = std::move(call); }

 private:
  using Clock = std::chrono::steady_clock;
  CommandAnswer trigger();
  bool take_trigger(Clock::time_point now);
  void drop_missed(Clock::time_point now);

  TriggerSettings settings_;
  std::function<void()> changed_;
  mutable std::mutex mutex_;
  std::condition_variable wake_;
  bool held_ = false, ended_ = false, idle_ = false;
  int waiting_ = 0;          ///< triggers by command
  Clock::time_point due_{};  ///< of the timer; its zero before the first
  TriggerCounts counts_;
};

}  // namespace heron
