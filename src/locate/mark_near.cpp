#include "locate/mark_near.hpp"

#undef HWY_TARGET_INCLUDE
#define HWY_TARGET_INCLUDE "locate/mark_near.cpp"
#include <hwy/foreach_target.h>
#include <hwy/highway.h>

HWY_BEFORE_NAMESPACE();
namespace heron {
namespace HWY_NAMESPACE {
namespace hn = hwy::HWY_NAMESPACE;

void mark_kernel(const int32_t* columns, const int32_t* rows, size_t count, int x, int y, int reach,
                 int32_t* marks) {
  const hn::ScalableTag<int32_t> d;
  const auto at_x = hn::Set(d, x), at_y = hn::Set(d, y), farther = hn::Set(d, reach + 1);
  for (size_t i = 0; i < count; i += hn::Lanes(d)) {
    const auto far = hn::Max(hn::Abs(hn::Sub(hn::LoadU(d, columns + i), at_x)),
                             hn::Abs(hn::Sub(hn::LoadU(d, rows + i), at_y)));
    const auto near = hn::And(hn::Lt(far, farther), hn::FirstN(d, count - i));
    if (hn::AllFalse(d, near)) continue;
    hn::BlendedStore(hn::Set(d, 1), near, d, marks + i);
  }
}

}  // namespace HWY_NAMESPACE
}  // namespace heron
HWY_AFTER_NAMESPACE();

#if HWY_ONCE
#include <cstdlib>

namespace heron {
HWY_EXPORT(mark_kernel);

void mark_near(const int32_t* columns, const int32_t* rows, size_t count, int x, int y, int reach,
               int32_t* marks) {
  HWY_DYNAMIC_DISPATCH(mark_kernel)(columns, rows, count, x, y, reach, marks);
}

void mark_near_plain(const int32_t* columns, const int32_t* rows, size_t count, int x, int y, int reach,
                     int32_t* marks) {
  for (size_t i = 0; i < count; ++i)
    if (std::abs(columns[i] - x) <= reach && std::abs(rows[i] - y) <= reach) marks[i] = 1;
}

}  // namespace heron
#endif
