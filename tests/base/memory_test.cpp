#include <doctest/doctest.h>
#include <sys/resource.h>

#include <cstdint>
#include <cstdlib>
#include <vector>

#include "heron/base/memory.hpp"
#include "sanitized.hpp"

using namespace heron;

namespace {

int64_t page_faults() {
  rusage usage{};
  getrusage(RUSAGE_SELF, &usage);
  return usage.ru_minflt;
}

}  // namespace

TEST_CASE("memory that was freed is there for the next picture") {
  keep_freed_memory();
  int64_t faults = 0;
  for (int picture = 0; picture < 3; ++picture) {
    const int64_t before = page_faults();
    std::vector<std::vector<uint8_t>> levels;  // freed together, they are more than is kept unasked
    for (int i = 0; i < 5; ++i) levels.emplace_back(size_t{4} << 20, uint8_t{7});
    CHECK(levels[4][1000] == 7);
    faults = page_faults() - before;
  }
#ifdef __GLIBC__
  if (!sanitized) CHECK(faults < 100);  // thousands otherwise
#endif
}
