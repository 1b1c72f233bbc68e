#include "locate/sum_rows.hpp"

#undef HWY_TARGET_INCLUDE
#define HWY_TARGET_INCLUDE "locate/sum_rows.cpp"
#include <hwy/foreach_target.h>
#include <hwy/highway.h>

#include <bit>

HWY_BEFORE_NAMESPACE();
namespace heron {
namespace HWY_NAMESPACE {
namespace hn = hwy::HWY_NAMESPACE;

void sum_rows_kernel(const uint8_t* const* features, const std::array<SumCheck, sum_checks>& checks,
                     std::ptrdiff_t stride, int width, int rows, std::vector<RowHit>& hits) {
  const hn::ScalableTag<uint8_t> d;
  const int lanes = static_cast<int>(hn::Lanes(d));
  HWY_ALIGN uint8_t sums[HWY_MAX_BYTES];
  uint8_t bits[HWY_MAX_BYTES / 8 + 8];
  for (int y = 0; y < rows; ++y)
    for (int x = 0; x < width; x += lanes) {
      const std::ptrdiff_t offset = y * stride + x;
      auto sum = hn::Zero(d);
      auto passed = hn::FirstN(d, static_cast<size_t>(width - x));
      int k = 0;
      for (const SumCheck& check : checks) {
        for (; k < check.after; ++k) sum = hn::Add(sum, hn::LoadU(d, features[k] + offset));
        const auto least = hn::Set(d, check.least);
        passed = hn::And(passed, hn::Eq(hn::Max(sum, least), sum));
        if (hn::AllFalse(d, passed)) break;
      }
      if (hn::AllFalse(d, passed)) continue;
      passed = hn::And(passed, hn::Gt(sum, hn::Zero(d)));
      hn::Store(sum, d, sums);
      hn::StoreMaskBits(d, passed, bits);
      for (int i = 0; i < lanes; i += 8)
        for (unsigned left = bits[i / 8]; left; left &= left - 1) {
          const int at = i + std::countr_zero(left);
          hits.push_back({x + at, y, sums[at]});
        }
    }
}

}  // namespace HWY_NAMESPACE
}  // namespace heron
HWY_AFTER_NAMESPACE();

#if HWY_ONCE
namespace heron {
HWY_EXPORT(sum_rows_kernel);

void sum_rows(const uint8_t* const* features, const std::array<SumCheck, sum_checks>& checks,
              std::ptrdiff_t stride, int width, int rows, std::vector<RowHit>& hits) {
  HWY_DYNAMIC_DISPATCH(sum_rows_kernel)(features, checks, stride, width, rows, hits);
}

void sum_rows_plain(const uint8_t* const* features, const std::array<SumCheck, sum_checks>& checks,
                    std::ptrdiff_t stride, int width, int rows, std::vector<RowHit>& hits) {
  for (int y = 0; y < rows; ++y)
    for (int x = 0; x < width; ++x) {
      int sum = 0, k = 0;
      bool passed = true;
      for (const SumCheck& check : checks) {
        for (; k < check.after; ++k) sum += features[k][y * stride + x];
        passed = passed && sum >= check.least;
      }
      if (passed && sum > 0) hits.push_back({x, y, static_cast<uint8_t>(sum)});
    }
}

}  // namespace heron
#endif
