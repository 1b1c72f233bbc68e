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
  constexpr size_t size = 9 << 20;
  int64_t faults = 0;
  for (int picture = 0; picture < 3; ++picture) {
    const int64_t before = page_faults();
    const std::vector<uint8_t> pixels(size, uint8_t{7});
    CHECK(pixels[size / 2] == 7);
    faults = page_faults() - before;
  }
#ifdef __GLIBC__
  if (!sanitized) CHECK(faults < 100);  // 2304 pages otherwise
#endif
}
