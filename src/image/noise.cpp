#include "heron/image/noise.hpp"

#include <algorithm>
#include <cstdlib>
#include <vector>

#include "image/vector_padding.hpp"

#undef HWY_TARGET_INCLUDE
#define HWY_TARGET_INCLUDE "image/noise.cpp"
#include <hwy/foreach_target.h>
#include <hwy/highway.h>

#ifndef HERON_NOISE_PLAIN
#define HERON_NOISE_PLAIN
namespace heron {
/// Three rows, and how far the sizes of the mask's answers are shifted before they are cut off at 255.
struct MaskRows {
  const uint8_t *above, *here, *below;
  int shift;
};
static uint8_t mask_size_plain(const MaskRows& rows, size_t x) {
  const auto column = [&](size_t i) { return rows.above[i] - 2 * rows.here[i] + rows.below[i]; };
  return static_cast<uint8_t>(
      std::min(std::abs(column(x) - 2 * column(x + 1) + column(x + 2)) >> rows.shift, 255));
}
}  // namespace heron
#endif

HWY_BEFORE_NAMESPACE();
namespace heron {
namespace HWY_NAMESPACE {
namespace hn = hwy::HWY_NAMESPACE;

void mask_sizes(const MaskRows& rows, size_t count, uint8_t* sizes) {
  size_t x = 0;
#if HWY_TARGET != HWY_SCALAR
  const hn::ScalableTag<int16_t> d;
  const hn::Rebind<uint8_t, decltype(d)> bytes;
  const auto column = [&](size_t i) HWY_ATTR {
    const auto at = [&](const uint8_t* row) HWY_ATTR { return hn::PromoteTo(d, hn::LoadU(bytes, row + i)); };
    return hn::Add(hn::Sub(at(rows.above), hn::ShiftLeft<1>(at(rows.here))), at(rows.below));
  };
  const size_t lanes = hn::Lanes(d);
  // The last vector may lie over the one before.
  for (size_t next = 0; count >= lanes && x < count; x = next) {
    next = x + lanes;
    x = std::min(x, count - lanes);
    const auto answer = hn::Add(hn::Sub(column(x), hn::ShiftLeft<1>(column(x + 1))), column(x + 2));
    hn::StoreU(hn::DemoteTo(bytes, hn::ShiftRightSame(hn::Abs(answer), rows.shift)), bytes, sizes + x);
  }
#endif
  for (; x < count; ++x) sizes[x] = mask_size_plain(rows, x);
}

/// How many of them are greater than `limit`; their number is one of whole vectors.
size_t how_many_above(const uint8_t* sizes, size_t count, uint8_t limit) {
  const hn::ScalableTag<uint8_t> d;
  const auto most = hn::Set(d, limit);
  size_t above = 0;
  for (size_t i = 0; i < count; i += hn::Lanes(d))
    above += hn::CountTrue(d, hn::Gt(hn::LoadU(d, sizes + i), most));
  return above;
}

}  // namespace HWY_NAMESPACE
}  // namespace heron
HWY_AFTER_NAMESPACE();

#if HWY_ONCE
namespace heron {
HWY_EXPORT(mask_sizes);
HWY_EXPORT(how_many_above);

namespace {

/// The least size that half of the `count` sizes at the beginning are not above; behind them come 255s only.
int median_size(const std::vector<uint8_t>& sizes, size_t count) {
  int low = 0, high = 255;
  while (low < high) {
    const int middle = (low + high) / 2;
    const size_t above =
        HWY_DYNAMIC_DISPATCH(how_many_above)(sizes.data(), sizes.size(), static_cast<uint8_t>(middle));
    if (2 * (sizes.size() - above) >= count)
      high = middle;
    else
      low = middle + 1;
  }
  return low;
}

}  // namespace

double noise_sigma(const ImageView<const uint8_t>& picture) {
  if (picture.width() < 3 || picture.height() < 3) return 0;
  const int step = std::max(1, picture.height() / 64), rows = (picture.height() - 3) / step + 1;
  const size_t width = static_cast<size_t>(picture.width()) - 2, count = static_cast<size_t>(rows) * width;
  std::vector<uint8_t> sizes((count + widest_vector - 1) / widest_vector * widest_vector, 255);
  // The mask answers with 4080 at most, and only in a picture that is nothing but noise with half as much.
  for (const int shift : {0, 4}) {
    for (int i = 0; i < rows; ++i) {
      const int y = 1 + i * step;
      const MaskRows mask{picture.row(y - 1), picture.row(y), picture.row(y + 1), shift};
      HWY_DYNAMIC_DISPATCH(mask_sizes)(mask, width, sizes.data() + static_cast<size_t>(i) * width);
    }
    // The mask's weights have a root sum of squares of 6.
    if (const int median = median_size(sizes, count); median < 255 || shift > 0)
      return 1.4826 / 6 * (median << shift);
  }
  return 0;
}

}  // namespace heron
#endif
