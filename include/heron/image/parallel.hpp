#pragma once
#include <functional>

namespace heron {

/// Calls body(first, end) for consecutive chunks of [0, count), on as many threads as the calling
/// oneTBB arena allows. The chunks depend on `count` and `chunk` only, never on the thread count.
void parallel_rows(int count, int chunk, const std::function<void(int first, int end)>& body);

/// Calls both, on two threads where the arena allows. What one writes, the other must not touch.
/// With `parallel_rows` the one place where the core spreads work over threads.
void parallel_pair(const std::function<void()>& first, const std::function<void()>& second);

}  // namespace heron
