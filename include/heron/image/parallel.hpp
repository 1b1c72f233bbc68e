#pragma once
#include <functional>

namespace heron {

/// Calls body(first, end) for consecutive chunks of [0, count), on as many threads as the calling
/// oneTBB arena allows. The chunks depend on `count` and `chunk` only, never on the thread count. The one
/// place where the core spreads work over threads.
void parallel_rows(int count, int chunk, const std::function<void(int first, int end)>& body);

}  // namespace heron
