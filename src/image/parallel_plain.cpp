// The same on plain threads, for builds that watch threads: how oneTBB passes work on they cannot see, so
// that they would take every chunk for a race.
#include "image/parallel.hpp"

#ifdef HERON_PLAIN_THREADS

#include <algorithm>
#include <atomic>
#include <exception>
#include <mutex>
#include <thread>
#include <utility>
#include <vector>

namespace heron {
namespace {

/// Work within work stays on its thread, so that threads do not multiply.
thread_local bool is_within = false;

/// Calls task(0) to task(count - 1) on some threads; throws what one of them has thrown.
void spread(int count, const std::function<void(int)>& task) {
  constexpr int threads = 4;
  std::atomic<int> next = 0;
  std::exception_ptr failed;
  std::mutex mutex;
  const auto work = [&] {
    const bool before = std::exchange(is_within, true);
    for (int i = next++; i < count; i = next++) try {
        task(i);
      } catch (...) {
        const std::lock_guard lock(mutex);
        failed = std::current_exception();
      }
    is_within = before;
  };
  std::vector<std::thread> others;
  if (!is_within)
    for (int i = 1; i < std::min(threads, count); ++i) others.emplace_back(work);
  work();
  for (std::thread& t : others) t.join();
  if (failed) std::rethrow_exception(failed);
}

}  // namespace

void parallel_rows(int count, int chunk, const std::function<void(int, int)>& body) {
  if (count <= 0) return;
  spread((count + chunk - 1) / chunk, [&](int i) { body(i * chunk, std::min(count, (i + 1) * chunk)); });
}

void parallel_pair(const std::function<void()>& one, const std::function<void()>& other) {
  spread(2, [&](int i) { i == 0 ? one() : other(); });
}

void parallel_alone(const std::function<void()>& work) { work(); }

class TaskGroup::Group {
 public:
  std::vector<std::thread> threads;
  std::exception_ptr failed;
  std::mutex mutex;
};

TaskGroup::TaskGroup() : group_(std::make_unique<Group>()) {}

TaskGroup::~TaskGroup() {
  for (std::thread& t : group_->threads) t.join();
}

void TaskGroup::begin(std::function<void()> errand) {
  group_->threads.emplace_back([this, errand = std::move(errand)] {
    try {
      errand();
    } catch (...) {
      const std::lock_guard lock(group_->mutex);
      group_->failed = std::current_exception();
    }
  });
}

void TaskGroup::wait() {
  for (std::thread& t : group_->threads) t.join();
  group_->threads.clear();
  if (group_->failed) std::rethrow_exception(std::exchange(group_->failed, nullptr));
}

}  // namespace heron

#endif
