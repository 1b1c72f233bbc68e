#include "image/parallel.hpp"

#ifndef HERON_PLAIN_THREADS

#include <tbb/parallel_for.h>
#include <tbb/parallel_invoke.h>
#include <tbb/task_arena.h>
#include <tbb/task_group.h>

#include <algorithm>

namespace heron {

void parallel_rows(int count, int chunk, const std::function<void(int, int)>& body) {
  if (count <= 0) return;
  const int chunks = (count + chunk - 1) / chunk;
  if (chunks == 1) return body(0, count);
  tbb::parallel_for(
      tbb::blocked_range<int>(0, chunks, 1),
      [&](const tbb::blocked_range<int>& range) {
        for (int i = range.begin(); i < range.end(); ++i) body(i * chunk, std::min(count, (i + 1) * chunk));
      },
      tbb::simple_partitioner());
}

void parallel_pair(const std::function<void()>& one, const std::function<void()>& other) {
  tbb::parallel_invoke(one, other);
}

void parallel_alone(const std::function<void()>& work) { tbb::this_task_arena::isolate(work); }

class TaskGroup::Group : public tbb::task_group {};

TaskGroup::TaskGroup() : group_(std::make_unique<Group>()) {}

TaskGroup::~TaskGroup() {
  group_->cancel();
  try {
    group_->wait();
  } catch (...) {  // whoever wanted to know would have waited
  }
}

void TaskGroup::begin(std::function<void()> errand) { group_->run(std::move(errand)); }

void TaskGroup::wait() { group_->wait(); }

}  // namespace heron

#endif
