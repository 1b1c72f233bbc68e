#pragma once
#include <functional>
#include <memory>

namespace heron {

// The one place where the core spreads work over threads.

/// Calls body(first, end) for consecutive chunks of [0, count), on as many threads as the calling
/// oneTBB arena allows. The chunks depend on `count` and `chunk` only, never on the thread count.
void parallel_rows(int count, int chunk, const std::function<void(int first, int end)>& body);

/// Calls both, at the same time where a thread is free. Either may spread its own work over threads.
void parallel_pair(const std::function<void()>& one, const std::function<void()>& other);

/// Calls `work`, which may spread over threads; meanwhile the calling thread takes on nothing else. For work
/// that others wait for, or that they would enter again.
void parallel_alone(const std::function<void()>& work);

/// Work that is done when a thread is free for it, while the calling thread goes on.
class TaskGroup {
 public:
  TaskGroup();
  TaskGroup(const TaskGroup&) = delete;
  ~TaskGroup();  ///< waits; tasks that have not begun are dropped, and failures are not reported
  void begin(std::function<void()> errand);
  /// Does what is left of it, with all threads that are free; throws what an errand has thrown.
  void wait();

 private:
  class Group;
  std::unique_ptr<Group> group_;
};

}  // namespace heron
