#include "heron/base/memory.hpp"

#include <cstdlib>
#ifdef __GLIBC__
#include <malloc.h>
#endif

namespace heron {

void keep_freed_memory() {
#ifdef __GLIBC__
  constexpr int kept = 256 << 20, largest_piece = 32 << 20;  // bytes; glibc takes no more for a piece
  mallopt(M_TRIM_THRESHOLD, kept);
  mallopt(M_MMAP_THRESHOLD, largest_piece);
#endif
}

}  // namespace heron
