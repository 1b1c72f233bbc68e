#pragma once
// A station as outlets see it, without a camera or a store.
#include <atomic>
#include <map>
#include <mutex>

#include "heron/link/outlet.hpp"

namespace support {

class FakeStation : public heron::StationPort {
 public:
  std::string name() const override { return "tray"; }
  std::string session() const override { return "0a1b2c3d"; }
  heron::StationState state() const override { return state_; }
  std::optional<heron::SetUpName> setup() const override {
    if (setup_ == 0) return std::nullopt;
    return heron::SetUpName{setup_, "kites"};
  }
  uint64_t newest() const override {
    const std::lock_guard lock(mutex_);
    return reports_.empty() ? 0 : reports_.rbegin()->first;
  }
  heron::CommandAnswer command(const heron::StationCommand& command) override {
    ++commands;
    if (command.kind == heron::StationCommand::select) {
      if (command.setup != 7) return {false, "there is no set-up " + std::to_string(command.setup)};
      setup_ = command.setup;
      return {true};
    }
    if (command.kind == heron::StationCommand::trigger && state_ == heron::StationState::held)
      return {false, "the station is held"};
    if (command.kind != heron::StationCommand::trigger)
      state_ = command.kind == heron::StationCommand::hold ? heron::StationState::held
                                                           : heron::StationState::working;
    return {true};
  }
  std::vector<heron::NumberedReport> reports_after(uint64_t number, size_t limit) const override {
    const std::lock_guard lock(mutex_);
    std::vector<heron::NumberedReport> some;
    for (auto it = reports_.upper_bound(number); it != reports_.end() && some.size() < limit; ++it)
      some.push_back({it->first, it->second});
    return some;
  }
  std::optional<heron::NumberedReport> report(uint64_t number) const override {
    const std::lock_guard lock(mutex_);
    const auto it = reports_.find(number);
    if (it == reports_.end()) return std::nullopt;
    return heron::NumberedReport{number, it->second};
  }
  std::string picture_png() const override { return picture; }
  uint64_t position(const std::string& receiver) const override {
    const std::lock_guard lock(mutex_);
    const auto it = positions_.find(receiver);
    return it == positions_.end() ? 0 : it->second;
  }
  void set_position(const std::string& receiver, uint64_t number) override {
    const std::lock_guard lock(mutex_);
    positions_[receiver] = number;
  }

  void add(uint64_t number) {
    const std::lock_guard lock(mutex_);
    reports_[number] = "{\"picture\":\"p.png\",\"number\":" + std::to_string(number) + "}";
  }
  void say(heron::StationState state) { state_ = state; }

  std::atomic<int> commands = 0;
  std::string picture;

 private:
  mutable std::mutex mutex_;
  std::atomic<heron::StationState> state_ = heron::StationState::working;
  std::atomic<int> setup_ = 0;
  std::map<uint64_t, std::string> reports_;
  std::map<std::string, uint64_t> positions_;
};

/// Waits up to ten seconds for something to become true.
template <class Condition>
bool soon(Condition condition) {
  for (int i = 0; i < 1000; ++i) {
    if (condition()) return true;
    usleep(10000);
  }
  return false;
}

}  // namespace support
