// Sums by cell; for files that Highway compiles for each instruction set.
#if defined(HERON_ADD_TO_CELLS) == defined(HWY_TARGET_TOGGLE)
#ifdef HERON_ADD_TO_CELLS
#undef HERON_ADD_TO_CELLS
#else
#define HERON_ADD_TO_CELLS
#endif

#include <hwy/highway.h>

#include <cstddef>
#include <cstdint>

#include "locate/common/cells.hpp"

HWY_BEFORE_NAMESPACE();
namespace heron {
namespace HWY_NAMESPACE {

/// Adds what each of a vector of samples pulls at four unknowns, p[0] to p[3], to `sums` of its cell, as laid
/// out for `merge_cells`; the first `count` of them.
template <class V>
HWY_INLINE void add_to_cells(const V* p, const int32_t* cell, size_t count, float* sums) {
  namespace hn = hwy::HWY_NAMESPACE;
  const hn::ScalableTag<float> f;
  const hn::CappedTag<float, 4> four;
  HWY_ALIGN float contribution[4 * HWY_MAX_BYTES / sizeof(float)];
  hn::StoreInterleaved4(p[0], p[1], p[2], p[3], f, contribution);
#pragma GCC unroll 4
  for (size_t k = 0; k < count; ++k)
    for (size_t r = 0; r < 4; r += hn::Lanes(four)) {
      float* sum = sums + 4 * (sums_a_cell * static_cast<size_t>(cell[k]) + k % sums_a_cell) + r;
      hn::StoreU(hn::Add(hn::LoadU(four, sum), hn::LoadU(four, contribution + 4 * k + r)), four, sum);
    }
}

}  // namespace HWY_NAMESPACE
}  // namespace heron
HWY_AFTER_NAMESPACE();

#endif
