#include "locate/pattern/coarse/sum_rows.hpp"

#undef HWY_TARGET_INCLUDE
#define HWY_TARGET_INCLUDE "locate/pattern/coarse/sum_rows.cpp"
#include <hwy/foreach_target.h>
#include <hwy/highway.h>

#include <algorithm>
#include <bit>

HWY_BEFORE_NAMESPACE();
namespace heron {
namespace HWY_NAMESPACE {
namespace hn = hwy::HWY_NAMESPACE;

using Bytes = hn::ScalableTag<uint8_t>;
using Sums = hn::Vec<Bytes>;

HWY_INLINE Sums sum_of(const uint8_t* const* features, int first, int end, std::ptrdiff_t offset, Sums sum) {
  for (int k = first; k < end; ++k) sum = hn::Add(sum, hn::LoadU(Bytes(), features[k] + offset));
  return sum;
}

/// The sums of as many places as a vector holds, 0 where they do not pass.
template <bool in_groups>
HWY_INLINE Sums sums_at(const SumFeatures& features, const std::array<SumCheck, sum_checks>& checks,
                        std::ptrdiff_t offset) {
  const Bytes d;
  auto sum = hn::Zero(d);
  auto passed = hn::Eq(sum, sum);
  int k = 0;
  [[maybe_unused]] const int* end = features.ends;
  for (const SumCheck& check : checks) {
    if constexpr (in_groups)
      for (; k < check.after; k = *end++)
        sum = hn::Add(sum, hn::Max(sum_of(features.ones, k, *end, offset, hn::Zero(d)),
                                   sum_of(features.others, k, *end, offset, hn::Zero(d))));
    else
      sum = sum_of(features.ones, k, check.after, offset, sum), k = check.after;
    passed = hn::And(passed, hn::Eq(hn::Max(sum, hn::Set(d, check.least)), sum));
    if (hn::AllFalse(d, passed)) return hn::Zero(d);
  }
  return hn::IfThenElseZero(passed, sum);
}

template <bool in_groups>
HWY_INLINE void sum_all(const SumFeatures& features, const std::array<SumCheck, sum_checks>& checks,
                        const SumPlaces& places, std::vector<PlacedHit>& hits) {
  const std::ptrdiff_t stride = places.stride;
  const int width = places.width, rows = places.rows, first_row = places.first_row, pose = places.pose;
  const Bytes d;
  const int lanes = static_cast<int>(hn::Lanes(d));
  HWY_ALIGN uint8_t sums[HWY_MAX_BYTES];
  uint8_t bits[HWY_MAX_BYTES / 8 + 8], beside[HWY_MAX_BYTES + 2] = {};
  const auto append = [&](Sums sum, Sums best, int x, int y) HWY_ATTR {
    const auto kept = hn::And(hn::Gt(sum, hn::Zero(d)), hn::Eq(sum, best));
    hn::Store(sum, d, sums);
    hn::StoreMaskBits(d, kept, bits);
    for (int i = 0; i < lanes; i += 8)
      for (unsigned left = bits[i / 8]; left; left &= left - 1) {
        const int at = i + std::countr_zero(left);
        hits.emplace_back(x + at, first_row + y, pose, sums[at]);
      }
  };
  for (int y = 0; y < rows; y += 2)
    for (int x = 0; x < width; x += lanes) {
      const std::ptrdiff_t offset = y * stride + x;
      // No more than lanes: some processors count them in a signed byte.
      const auto inside = hn::FirstN(d, static_cast<size_t>(std::min(width - x, lanes)));
      const auto sum = hn::IfThenElseZero(inside, sums_at<in_groups>(features, checks, offset)),
                 below = y + 1 == rows ? hn::Zero(d)
                                       : hn::IfThenElseZero(
                                             inside, sums_at<in_groups>(features, checks, offset + stride));
      const auto best = hn::Max(sum, below);
      if (hn::AllTrue(d, hn::Eq(best, hn::Zero(d)))) continue;
      hn::StoreU(best, d, beside + 1);
      const auto swapped = hn::OddEven(hn::LoadU(d, beside), hn::LoadU(d, beside + 2));
      const auto best_of_four = hn::Max(best, swapped);
      append(sum, best_of_four, x, y), append(below, best_of_four, x, y + 1);
    }
}

void sum_rows_kernel(const SumFeatures& features, const std::array<SumCheck, sum_checks>& checks,
                     const SumPlaces& places, std::vector<PlacedHit>& hits) {
  if (features.ends)
    sum_all<true>(features, checks, places, hits);
  else
    sum_all<false>(features, checks, places, hits);
}

}  // namespace HWY_NAMESPACE
}  // namespace heron
HWY_AFTER_NAMESPACE();

#if HWY_ONCE
namespace heron {
HWY_EXPORT(sum_rows_kernel);

void sum_rows(const SumFeatures& features, const std::array<SumCheck, sum_checks>& checks,
              const SumPlaces& places, std::vector<PlacedHit>& hits) {
  HWY_DYNAMIC_DISPATCH(sum_rows_kernel)(features, checks, places, hits);
}

void sum_rows_plain(const SumFeatures& features, const std::array<SumCheck, sum_checks>& checks,
                    const SumPlaces& places, std::vector<PlacedHit>& hits) {
  const std::ptrdiff_t stride = places.stride;
  const int width = places.width, rows = places.rows, first_row = places.first_row, pose = places.pose;
  const auto sum_at = [&](int x, int y) {
    int sum = 0, k = 0;
    const int* end = features.ends;
    for (const SumCheck& check : checks) {
      while (k < check.after) {
        int one = 0, other = 0;
        for (const int group_end = end ? *end++ : k + 1; k < group_end; ++k) {
          one += features.ones[k][y * stride + x];
          if (end) other += features.others[k][y * stride + x];
        }
        sum += std::max(one, other);
      }
      if (sum < check.least) return 0;
    }
    return sum;
  };
  for (int y = 0; y < rows; y += 2)
    for (int x = 0; x < width; x += 2) {
      const int end_y = std::min(rows, y + 2), end_x = std::min(width, x + 2);
      int best = 1;
      for (int v = y; v < end_y; ++v)
        for (int u = x; u < end_x; ++u) best = std::max(best, sum_at(u, v));
      for (int v = y; v < end_y; ++v)
        for (int u = x; u < end_x; ++u)
          if (sum_at(u, v) == best) hits.emplace_back(u, first_row + v, pose, best);
    }
}

}  // namespace heron
#endif
