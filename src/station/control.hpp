#pragma once
#include <chrono>
#include <condition_variable>
#include <deque>
#include <functional>
#include <mutex>
#include <optional>

#include "heron/base/work.hpp"
#include "heron/link/outlet.hpp"
#include "heron/station/station_file.hpp"

namespace heron {

/// When a station may take its next picture: triggers, and hold. Commands come from any thread; one thread
/// waits.
class StationControl {
 public:
  StationControl(const TriggerSettings& settings, int setup) : settings_(settings), selected_(setup) {}

  /// Not select, which is the station's.
  CommandAnswer command(const StationCommand& command);
  /// Triggers that come from now on are for this set-up. False when the station has ended.
  bool select(int setup);
  int selected() const;
  /// Waits until a picture may be taken, and takes its trigger: the set-up that was selected when it came.
  /// Nothing after a stop.
  std::optional<int> wait(const Work* stop);
  void end();
  StationState state() const;
  int64_t dropped() const;  ///< triggers that came while others were worked on
  /// Called after each change of the state.
  void on_change(std::function<void()> call) { changed_ = std::move(call); }

 private:
  using Clock = std::chrono::steady_clock;
  CommandAnswer trigger();
  std::optional<int> take_trigger(Clock::time_point now);
  void drop_missed(Clock::time_point now);

  TriggerSettings settings_;
  std::function<void()> changed_;
  mutable std::mutex mutex_;
  std::condition_variable wake_;
  bool held_ = false, ended_ = false, idle_ = false;
  int selected_;
  std::deque<int> waiting_;  ///< triggers by command: their set-ups
  Clock::time_point due_{};  ///< of the timer; its zero before the first
  int64_t dropped_ = 0;
};

}  // namespace heron
