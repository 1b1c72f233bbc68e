#include "heron/image/pyramid.hpp"
#include "image/plain_kernels.hpp"

#include "image/parallel.hpp"

#undef HWY_TARGET_INCLUDE
#define HWY_TARGET_INCLUDE "image/halve.cpp"
#include <hwy/foreach_target.h>
#include <hwy/highway.h>

#ifndef HERON_HALVE_PLAIN
#define HERON_HALVE_PLAIN
namespace heron {
static void halve_row_plain(const uint8_t* upper, const uint8_t* lower, uint8_t* out, int first, int width) {
  for (int x = first; x < width; ++x)
    out[x] =
        static_cast<uint8_t>((upper[2 * x] + upper[2 * x + 1] + lower[2 * x] + lower[2 * x + 1] + 2) >> 2);
}
}  // namespace heron
#endif

HWY_BEFORE_NAMESPACE();
namespace heron {
namespace HWY_NAMESPACE {
namespace hn = hwy::HWY_NAMESPACE;

void halve_row(const uint8_t* upper, const uint8_t* lower, uint8_t* out, int width) {
  int x = 0;
#if HWY_TARGET != HWY_SCALAR  // pairs of bytes need vectors
  const hn::ScalableTag<uint16_t> wide;
  const hn::Repartition<uint8_t, decltype(wide)> bytes;
  const hn::Rebind<uint8_t, decltype(wide)> half;
  const int lanes = static_cast<int>(hn::Lanes(wide));
  const auto low = hn::Set(wide, 0x00FF), two = hn::Set(wide, 2);
  const auto pair_sum = [&](const uint8_t* p) {
    const auto v = hn::BitCast(wide, hn::LoadU(bytes, p));
    return hn::Add(hn::And(v, low), hn::ShiftRight<8>(v));
  };
  for (; x + lanes <= width; x += lanes) {
    const auto sum = hn::Add(hn::Add(pair_sum(upper + 2 * x), pair_sum(lower + 2 * x)), two);
    hn::StoreU(hn::DemoteTo(half, hn::BitCast(hn::RebindToSigned<decltype(wide)>(), hn::ShiftRight<2>(sum))),
               half, out + x);
  }
#endif
  halve_row_plain(upper, lower, out, x, width);
}

}  // namespace HWY_NAMESPACE
}  // namespace heron
HWY_AFTER_NAMESPACE();

#if HWY_ONCE
namespace heron {
HWY_EXPORT(halve_row);

Image<uint8_t> halve(const ImageView<const uint8_t>& picture) {
  auto half = Image<uint8_t>::uninitialized(picture.width() / 2, picture.height() / 2);
  parallel_rows(half.height(), 128, [&](int first, int end) {
    for (int y = first; y < end; ++y)
      HWY_DYNAMIC_DISPATCH(halve_row)(picture.row(2 * y), picture.row(2 * y + 1), half.row(y), half.width());
  });
  return half;
}

Image<uint8_t> halve_plain(const ImageView<const uint8_t>& picture) {
  Image<uint8_t> half(picture.width() / 2, picture.height() / 2);
  for (int y = 0; y < half.height(); ++y)
    halve_row_plain(picture.row(2 * y), picture.row(2 * y + 1), half.row(y), 0, half.width());
  return half;
}

}  // namespace heron
#endif
