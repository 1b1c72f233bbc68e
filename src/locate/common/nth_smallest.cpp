#include "locate/common/nth_smallest.hpp"

#include "image/vector_padding.hpp"

#undef HWY_TARGET_INCLUDE
#define HWY_TARGET_INCLUDE "locate/common/nth_smallest.cpp"
#include <hwy/foreach_target.h>
#include <hwy/highway.h>

HWY_BEFORE_NAMESPACE();
namespace heron {
namespace HWY_NAMESPACE {
namespace hn = hwy::HWY_NAMESPACE;

/// The key between `low` and `high` that `n` of the keys are not above. The keys are filled up to whole
/// vectors with the greatest there is.
int32_t search_kernel(const int32_t* keys, size_t count, size_t n, int64_t low, int64_t high) {
  const hn::ScalableTag<int32_t> d;
  while (low < high) {
    const int64_t middle = (low + high) >> 1;
    const auto limit = hn::Set(d, static_cast<int32_t>(middle));
    auto above = hn::Zero(d);  // counted downwards
    size_t i = 0;
    for (; i < count; i += hn::Lanes(d))
      above = hn::Add(above, hn::VecFromMask(d, hn::Gt(hn::LoadU(d, keys + i), limit)));
    const auto some = static_cast<size_t>(-hn::GetLane(hn::SumOfLanes(d, above)));
    i - some > n ? high = middle : low = middle + 1;
  }
  return static_cast<int32_t>(low);
}

}  // namespace HWY_NAMESPACE
}  // namespace heron
HWY_AFTER_NAMESPACE();

#if HWY_ONCE
#include <algorithm>
#include <bit>
#include <limits>

namespace heron {
HWY_EXPORT(search_kernel);

/// Floats' bits, those below zero upside down, sort as the floats do; the same turns them back.
static int32_t turned(int32_t bits) { return bits ^ ((bits >> 31) & 0x7fffffff); }

float nth_smallest(const std::vector<float>& values, size_t n) {
  static thread_local std::vector<int32_t> keys;
  keys.assign(values.size() + vector_padding, std::numeric_limits<int32_t>::max());
  int32_t least = std::numeric_limits<int32_t>::max(), most = std::numeric_limits<int32_t>::min();
  for (size_t i = 0; i < values.size(); ++i) {
    keys[i] = turned(std::bit_cast<int32_t>(values[i]));
    least = std::min(least, keys[i]), most = std::max(most, keys[i]);
  }
  return std::bit_cast<float>(
      turned(HWY_DYNAMIC_DISPATCH(search_kernel)(keys.data(), values.size(), n, least, most)));
}

float nth_smallest_plain(const std::vector<float>& values, size_t n) {
  std::vector<float> sorted = values;
  const auto at = sorted.begin() + static_cast<std::ptrdiff_t>(n);
  std::nth_element(sorted.begin(), at, sorted.end());
  return *at;
}

}  // namespace heron
#endif
