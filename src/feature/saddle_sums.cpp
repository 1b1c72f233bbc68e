#include "saddle_sums.hpp"

#include <cmath>

#undef HWY_TARGET_INCLUDE
#define HWY_TARGET_INCLUDE "feature/saddle_sums.cpp"
#include <hwy/foreach_target.h>
#include <hwy/highway.h>

#include "image/sobel-inl.hpp"

#ifndef HERON_SADDLE_SUMS_PLAIN
#define HERON_SADDLE_SUMS_PLAIN
namespace heron {
static void add_saddle_row_plain(const uint8_t* up, const uint8_t* mid, const uint8_t* down, int first,
                                 int last, float x, float dy, float inverse, SaddleSums* sums) {
  for (int i = first; i <= last; ++i) {
    const float dx = static_cast<float>(i) - x, left = 1.0f - (dx * dx + dy * dy) * inverse;
    if (left <= 0.0f) continue;
    const float w = left * left;
    const auto [gx, gy] = sobel_plain(up, mid, down, i);
    const float wx = w * gx, wy = w * gy, along = gx * dx + gy * dy;
    sums->xx += wx * gx, sums->xy += wx * gy, sums->yy += wy * gy;
    sums->bx += wx * along, sums->by += wy * along;
  }
}
}  // namespace heron
#endif

HWY_BEFORE_NAMESPACE();
namespace heron {
namespace HWY_NAMESPACE {
namespace hn = hwy::HWY_NAMESPACE;

SaddleSums sum_saddle(const uint8_t* corner, std::ptrdiff_t stride, int first_x, int last_x, int first_y,
                      int last_y, float x, float y, float radius, int width) {
  const hn::ScalableTag<float> f;
  const int lanes = static_cast<int>(hn::Lanes(f));
  const float inverse = 1.0f / (radius * radius);
  const auto zero = hn::Zero(f), one = hn::Set(f, 1.0f);
  auto xx = zero, xy = zero, yy = zero, bx = zero, by = zero;
  SaddleSums sums;
  for (int j = first_y; j <= last_y; ++j) {
    const uint8_t *mid = corner + j * stride, *up = mid - stride, *down = mid + stride;
    const float dy = static_cast<float>(j) - y;
    const auto dys = hn::Set(f, dy), dyy = hn::Set(f, dy * dy);
    int i = first_x;
    // Beyond the disc weights are zero.
    for (; i <= last_x && i + lanes + 1 <= width; i += lanes) {
      hn::Vec<decltype(f)> gx, gy;
      sobel(f, up, mid, down, i, gx, gy);
      const auto dx = hn::Sub(hn::Iota(f, static_cast<float>(i)), hn::Set(f, x));
      const auto left =
          hn::Max(zero, hn::Sub(one, hn::Mul(hn::Add(hn::Mul(dx, dx), dyy), hn::Set(f, inverse))));
      const auto w = hn::Mul(left, left), wx = hn::Mul(w, gx), wy = hn::Mul(w, gy),
                 along = hn::Add(hn::Mul(gx, dx), hn::Mul(gy, dys));
      xx = hn::Add(xx, hn::Mul(wx, gx)), xy = hn::Add(xy, hn::Mul(wx, gy)), yy = hn::Add(yy, hn::Mul(wy, gy));
      bx = hn::Add(bx, hn::Mul(wx, along)), by = hn::Add(by, hn::Mul(wy, along));
    }
    add_saddle_row_plain(up, mid, down, i, last_x, x, dy, inverse, &sums);
  }
  const auto total = [&](auto v) { return hn::GetLane(hn::SumOfLanes(f, v)); };
  return {sums.xx + total(xx), sums.xy + total(xy), sums.yy + total(yy), sums.bx + total(bx),
          sums.by + total(by)};
}

}  // namespace HWY_NAMESPACE
}  // namespace heron
HWY_AFTER_NAMESPACE();

#if HWY_ONCE
namespace heron {
HWY_EXPORT(sum_saddle);

SaddleSums saddle_sums(const ImageView<const uint8_t>& picture, float x, float y, float radius) {
  return HWY_DYNAMIC_DISPATCH(sum_saddle)(
      picture.row(0), picture.stride(), static_cast<int>(std::ceil(x - radius)),
      static_cast<int>(std::floor(x + radius)), static_cast<int>(std::ceil(y - radius)),
      static_cast<int>(std::floor(y + radius)), x, y, radius, picture.width());
}

SaddleSums saddle_sums_plain(const ImageView<const uint8_t>& picture, float x, float y, float radius) {
  SaddleSums sums;
  for (int j = static_cast<int>(std::ceil(y - radius)); j <= static_cast<int>(std::floor(y + radius)); ++j)
    add_saddle_row_plain(picture.row(j - 1), picture.row(j), picture.row(j + 1),
                         static_cast<int>(std::ceil(x - radius)), static_cast<int>(std::floor(x + radius)), x,
                         static_cast<float>(j) - y, 1.0f / (radius * radius), &sums);
  return sums;
}

}  // namespace heron
#endif
