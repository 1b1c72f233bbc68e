#include "control.hpp"

#include <fmt/format.h>

namespace heron {
namespace {

constexpr std::chrono::milliseconds slice{50};  // between two looks at stop

}  // namespace

CommandAnswer StationControl::command(const StationCommand& command) {
  {
    const std::lock_guard lock(mutex_);
    if (ended_) return {false, "the station has ended"};
    if (command.kind == StationCommand::trigger) return trigger();
    const bool hold = command.kind == StationCommand::hold;
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
  if (static_cast<int>(waiting_.size()) >= settings_.queue + (idle_ ? 1 : 0)) {
    ++dropped_;
    return {false, settings_.queue == 0 ? "a picture is being worked on"
                                        : fmt::format("{} triggers wait already", waiting_.size())};
  }
  waiting_.push_back(selected_);
  wake_.notify_all();
  return {true};
}

/// Under the lock.
std::optional<int> StationControl::take_trigger(Clock::time_point now) {
  switch (settings_.by) {
    case Trigger::station:
      return selected_;
    case Trigger::command: {
      if (waiting_.empty()) return std::nullopt;
      const int setup = waiting_.front();
      waiting_.pop_front();
      return setup;
    }
    case Trigger::timer:
      break;
    case Trigger::arrival:
      if (now < due_) return std::nullopt;
      due_ = now + settings_.every;
      return selected_;
  }
  if (now < due_) return std::nullopt;
  due_ += settings_.every;
  return selected_;
}

/// Of the timer's triggers that came while the station was busy, as many are kept as may wait. Under the
/// lock.
void StationControl::drop_missed(Clock::time_point now) {
  if (settings_.by != Trigger::timer) return;
  if (due_ == Clock::time_point{}) due_ = now;
  if (now <= due_) return;
  const int64_t came = (now - due_) / settings_.every + 1;
  const int64_t dropped = std::max<int64_t>(came - settings_.queue, 0);
  dropped_ += dropped;
  due_ += dropped * settings_.every;
}

std::optional<int> StationControl::wait(const Work* stop) {
  std::unique_lock lock(mutex_);
  drop_missed(Clock::now());
  idle_ = true;
  while (!(stop && stop->stopped())) {
    if (held_) {
      wake_.wait_for(lock, slice);
      continue;
    }
    if (const auto setup = take_trigger(Clock::now())) {
      idle_ = false;
      return setup;
    }
    auto until = Clock::now() + slice;
    if (settings_.by == Trigger::timer || settings_.by == Trigger::arrival) until = std::min(until, due_);
    wake_.wait_until(lock, until);
  }
  idle_ = false;
  return std::nullopt;
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

int64_t StationControl::dropped() const {
  const std::lock_guard lock(mutex_);
  return dropped_;
}

bool StationControl::select(int setup) {
  const std::lock_guard lock(mutex_);
  if (!ended_) selected_ = setup;
  return !ended_;
}

int StationControl::selected() const {
  const std::lock_guard lock(mutex_);
  return selected_;
}

}  // namespace heron
