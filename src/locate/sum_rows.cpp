#include "locate/sum_rows.hpp"

#undef HWY_TARGET_INCLUDE
#define HWY_TARGET_INCLUDE "locate/sum_rows.cpp"
#include <hwy/foreach_target.h>
#include <hwy/highway.h>

#ifndef HERON_SUM_ROWS_PLAIN
#define HERON_SUM_ROWS_PLAIN
namespace heron {
static void sum_row_plain(const uint8_t* const* features, int count, std::ptrdiff_t offset, int first,
                          int width, int y, uint8_t limit, std::vector<RowHit>& hits) {
  for (int x = first; x < width; ++x) {
    int sum = 0;
    for (int k = 0; k < count; ++k) sum += features[k][offset + x];
    if (sum >= limit) hits.push_back({x, y, static_cast<uint8_t>(sum)});
  }
}
}  // namespace heron
#endif

HWY_BEFORE_NAMESPACE();
namespace heron {
namespace HWY_NAMESPACE {
namespace hn = hwy::HWY_NAMESPACE;

void sum_rows_kernel(const uint8_t* const* features, int count, int most, std::ptrdiff_t stride, int width,
                     int rows, uint8_t limit, std::vector<RowHit>& hits) {
  const hn::ScalableTag<uint8_t> d;
  const int lanes = static_cast<int>(hn::Lanes(d));
  const int half = count / 2, rest = (count - half) * most;
  const auto enough = hn::Set(d, limit),
             still_possible = hn::Set(d, static_cast<uint8_t>(limit > rest ? limit - rest : 0));
  HWY_ALIGN uint8_t sums[HWY_MAX_BYTES];
  for (int y = 0; y < rows; ++y) {
    const std::ptrdiff_t offset = y * stride;
    int x = 0;
    for (; x + lanes <= width; x += lanes) {
      auto sum = hn::Zero(d);
      for (int k = 0; k < half; ++k) sum = hn::Add(sum, hn::LoadU(d, features[k] + offset + x));
      if (hn::AllFalse(d, hn::Eq(hn::Max(sum, still_possible), sum))) continue;
      for (int k = half; k < count; ++k) sum = hn::Add(sum, hn::LoadU(d, features[k] + offset + x));
      if (hn::AllFalse(d, hn::Eq(hn::Max(sum, enough), sum))) continue;
      hn::Store(sum, d, sums);
      for (int i = 0; i < lanes; ++i)
        if (sums[i] >= limit) hits.push_back({x + i, y, sums[i]});
    }
    sum_row_plain(features, count, offset, x, width, y, limit, hits);
  }
}

}  // namespace HWY_NAMESPACE
}  // namespace heron
HWY_AFTER_NAMESPACE();

#if HWY_ONCE
namespace heron {
HWY_EXPORT(sum_rows_kernel);

void sum_rows(const uint8_t* const* features, int count, int most, std::ptrdiff_t stride, int width, int rows,
              uint8_t limit, std::vector<RowHit>& hits) {
  HWY_DYNAMIC_DISPATCH(sum_rows_kernel)(features, count, most, stride, width, rows, limit, hits);
}

void sum_rows_plain(const uint8_t* const* features, int count, int, std::ptrdiff_t stride, int width,
                    int rows, uint8_t limit, std::vector<RowHit>& hits) {
  for (int y = 0; y < rows; ++y) sum_row_plain(features, count, y * stride, 0, width, y, limit, hits);
}

}  // namespace heron
#endif
