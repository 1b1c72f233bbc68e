#include "heron/image/gradient.hpp"
#include "image/plain_kernels.hpp"

#include <algorithm>
#include <cmath>

#include "image/parallel.hpp"

#undef HWY_TARGET_INCLUDE
#define HWY_TARGET_INCLUDE "image/gradient.cpp"
#include <hwy/foreach_target.h>
#include <hwy/highway.h>

#include "image/sobel-inl.hpp"

#ifndef HERON_GRADIENT_PLAIN
#define HERON_GRADIENT_PLAIN
namespace heron {
// atan(t) = t (a - b t) + ..., the fit of Rajan et al., "Efficient approximations for the arctangent
// function", IEEE Signal Processing Magazine 23(3), 2006; off by 0.2 degrees at most. In 256ths of a turn.
static constexpr float turn_steps = 256.0f / 6.283185307179586f;
static constexpr float atan_a = (0.7853981633974483f + 0.273f) * turn_steps;
static constexpr float atan_b = 0.273f * turn_steps;
static constexpr float tiny = 1e-6f;

static void gradient_row_plain(const uint8_t* up, const uint8_t* mid, const uint8_t* down, uint8_t* direction,
                               uint8_t* size, int first, int end) {
  for (int x = first; x < end; ++x) {
    const auto [gx, gy] = sobel_plain(up, mid, down, x);
    const float ax = std::fabs(gx), ay = std::fabs(gy);
    const float larger = ax > ay ? ax : ay, smaller = ax > ay ? ay : ax;
    const float t = smaller / (larger + tiny);
    float steps = t * (atan_a - atan_b * t);
    if (ay > ax) steps = 64.0f - steps;
    if (gx < 0) steps = 128.0f - steps;
    if (gy < 0) steps = 256.0f - steps;
    direction[x] = static_cast<uint8_t>(static_cast<int>(steps + 0.5f) & 255);
    const float length = std::sqrt(gx * gx + gy * gy) * 0.25f + 0.5f;
    size[x] = static_cast<uint8_t>(length > 255.0f ? 255 : static_cast<int>(length));
  }
}
}  // namespace heron
#endif

HWY_BEFORE_NAMESPACE();
namespace heron {
namespace HWY_NAMESPACE {
namespace hn = hwy::HWY_NAMESPACE;

void gradient_row(const uint8_t* up, const uint8_t* mid, const uint8_t* down, uint8_t* direction,
                  uint8_t* size, int width) {
  const hn::ScalableTag<float> f;
  const hn::RebindToSigned<decltype(f)> i;
  const hn::Rebind<uint8_t, decltype(f)> bytes;
  const int lanes = static_cast<int>(hn::Lanes(f));
  if (width < lanes + 2) return gradient_row_plain(up, mid, down, direction, size, 1, width - 1);
  for (int next = 1; next < width - 1; next += lanes) {
    const int x = std::min(next, width - 1 - lanes);  // the last ends with the row
    hn::Vec<decltype(f)> gx, gy;
    sobel(f, up, mid, down, x, gx, gy);
    const auto ax = hn::Abs(gx), ay = hn::Abs(gy);
    const auto t = hn::Div(hn::Min(ax, ay), hn::Add(hn::Max(ax, ay), hn::Set(f, tiny)));
    auto steps = hn::Mul(t, hn::Sub(hn::Set(f, atan_a), hn::Mul(hn::Set(f, atan_b), t)));
    steps = hn::IfThenElse(hn::Gt(ay, ax), hn::Sub(hn::Set(f, 64.0f), steps), steps);
    steps = hn::IfThenElse(hn::Lt(gx, hn::Zero(f)), hn::Sub(hn::Set(f, 128.0f), steps), steps);
    steps = hn::IfThenElse(hn::Lt(gy, hn::Zero(f)), hn::Sub(hn::Set(f, 256.0f), steps), steps);
    const auto whole = hn::And(hn::ConvertTo(i, hn::Add(steps, hn::Set(f, 0.5f))), hn::Set(i, 255));
    hn::StoreU(hn::DemoteTo(bytes, whole), bytes, direction + x);
    const auto length = hn::Add(
        hn::Mul(hn::Sqrt(hn::Add(hn::Mul(gx, gx), hn::Mul(gy, gy))), hn::Set(f, 0.25f)), hn::Set(f, 0.5f));
    hn::StoreU(hn::DemoteTo(bytes, hn::ConvertTo(i, length)), bytes, size + x);
  }
}

}  // namespace HWY_NAMESPACE
}  // namespace heron
HWY_AFTER_NAMESPACE();

#if HWY_ONCE
namespace heron {
HWY_EXPORT(gradient_row);

Gradients gradients(const ImageView<const uint8_t>& picture) {
  Gradients g{Image<uint8_t>(picture.width(), picture.height()),
              Image<uint8_t>(picture.width(), picture.height())};
  parallel_rows(std::max(0, picture.height() - 2), 64, [&](int first, int end) {
    for (int y = first + 1; y <= end; ++y) HWY_DYNAMIC_DISPATCH(gradient_row)
    (picture.row(y - 1), picture.row(y), picture.row(y + 1), g.direction.row(y), g.size.row(y),
     picture.width());
  });
  return g;
}

Gradients gradients_plain(const ImageView<const uint8_t>& picture) {
  Gradients g{Image<uint8_t>(picture.width(), picture.height()),
              Image<uint8_t>(picture.width(), picture.height())};
  for (int y = 1; y + 1 < picture.height(); ++y)
    gradient_row_plain(picture.row(y - 1), picture.row(y), picture.row(y + 1), g.direction.row(y),
                       g.size.row(y), 1, picture.width() - 1);
  return g;
}

}  // namespace heron
#endif
