#include "control.hpp"

#include <fmt/format.h>

namespace heron {
namespace {

constexpr std::chrono::milliseconds slice{50};  // between two looks at stop

}  // namespace

CommandAnswer StationControl::command(StationCommand command) {
  {
    const std::lock_guard lock(mutex_);
    if (ended_) return {false, "the station has ended"};
    if (command == StationCommand::trigger) return trigger();
    const bool hold = command == StationCommand::hold;
    if (held_ == hold) return {true};  // said twice, it is done
    held_ = hold;
    wake_.notify_all();
  }
  if (changed_) changed_();
  return {true};
}

/// Under the lock.
CommandAnswer StationControl::trigger() {
  if (settings_.by != Trigger::command) return {false, "this station is not triggered by commands"};
  if (held_) return {false, "the station is held"};
  // One that waits idle takes it at once; a busy one after the pictures before.
  if (waiting_ >= settings_.queue + (idle_ ? 1 : 0)) {
    ++counts_.dropped;
    return {false, settings_.queue == 0 ? "a picture is being worked on"
                                        : fmt::format("{} triggers wait already", waiting_)};
  }
  ++waiting_;
  wake_.notify_all();
  return {true};
}

/// Under the lock.
bool StationControl::take_trigger(Clock::time_point now) {
  switch (settings_.by) {
    case Trigger::station:
      return true;
    case Trigger::command:
      if (waiting_ == 0) return false;
      --waiting_;
      return true;
    case Trigger::timer:
      break;
  }
  if (now < due_) return false;
  due_ += settings_.every;
  return true;
}

/// Of the timer's triggers that came while the station was busy, as many are kept as may wait. Under the
/// lock.
void StationControl::drop_missed(Clock::time_point now) {
  if (settings_.by != Trigger::timer) return;
  if (due_ == Clock::time_point{}) due_ = now;
  if (now <= due_) return;
  const int64_t came = (now - due_) / settings_.every + 1;
  const int64_t dropped = std::max<int64_t>(came - settings_.queue, 0);
  counts_.dropped += dropped;
  due_ += dropped * settings_.every;
}

bool StationControl::wait(const Work* stop) {
  std::unique_lock lock(mutex_);
  drop_missed(Clock::now());
  idle_ = true;
  while (!(stop && stop->stopped())) {
    if (!held_ && take_trigger(Clock::now())) {
      idle_ = false;
      ++counts_.taken;
      return true;
    }
    auto until = Clock::now() + slice;
    if (settings_.by == Trigger::timer && !held_) until = std::min(until, due_);
    wake_.wait_until(lock, until);
  }
  idle_ = false;
  return false;
}

void StationControl::end() {
  {
    const std::lock_guard lock(mutex_);
    if (ended_) return;
    ended_ = true;
  }
  if (changed_) changed_();
}

StationState StationControl::state() const {
  const std::lock_guard lock(mutex_);
  return ended_ ? StationState::ended : held_ ? StationState::held : StationState::working;
}

TriggerCounts StationControl::counts() const {
  const std::lock_guard lock(mutex_);
  return counts_;
}

}  // namespace heron
