#include "selector.hpp"

#include <fmt/format.h>

namespace heron {
namespace {

constexpr size_t most_waiting = 8;

}  // namespace

Selector::Selector(std::function<CommandAnswer(int)> select)
    : select_(std::move(select)), worker_([this](const std::stop_token& over) { work(over); }) {}

void Selector::want(int setup) {
  const std::lock_guard lock(mutex_);
  if (wishes_.size() >= most_waiting)
    finished_.push_back({setup, {false, fmt::format("{} others wait already", wishes_.size())}});
  else
    wishes_.push_back(setup);
  wanted_.notify_all();
}

bool Selector::busy() const {
  const std::lock_guard lock(mutex_);
  return !wishes_.empty() || !finished_.empty();
}

std::optional<FinishedSelection> Selector::finished() {
  const std::lock_guard lock(mutex_);
  if (finished_.empty()) return std::nullopt;
  FinishedSelection first = std::move(finished_.front());
  finished_.pop_front();
  return first;
}

void Selector::work(const std::stop_token& over) {
  std::unique_lock lock(mutex_);
  while (wanted_.wait(lock, over, [this] { return !wishes_.empty(); })) {
    const int setup = wishes_.front();
    lock.unlock();
    const CommandAnswer answer =
        select_ ? select_(setup) : CommandAnswer{false, "this station has no set-ups"};
    lock.lock();
    wishes_.pop_front();
    finished_.push_back({setup, answer});
  }
}

}  // namespace heron
