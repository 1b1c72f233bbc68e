#include "heron/files/input_budget.hpp"

#include <fmt/format.h>

#include <atomic>

#include "heron/base/error.hpp"

namespace heron {
namespace {

std::atomic<size_t> budget{size_t{1} << 30};

}  // namespace

size_t input_budget() { return budget; }

void set_input_budget(size_t bytes) {
  constexpr size_t least = size_t{64} << 20, most = size_t{64} << 30;
  if (bytes < least || bytes > most)
    fail_argument(fmt::format("a memory of {} MB for an input must be from {} to {} MB", bytes >> 20,
                              least >> 20, most >> 20));
  budget = bytes;
}

}  // namespace heron
