#include "image/sample_line.hpp"

#undef HWY_TARGET_INCLUDE
#define HWY_TARGET_INCLUDE "image/sample_line.cpp"
#include <hwy/foreach_target.h>
#include <hwy/highway.h>

#include "image/bilinear-inl.hpp"

HWY_BEFORE_NAMESPACE();
namespace heron {
namespace HWY_NAMESPACE {

void add_samples_kernel(const Image<uint8_t>& picture, Point2 start, Point2 step, std::vector<float>& sums) {
  namespace hn = hwy::HWY_NAMESPACE;
  const hn::ScalableTag<float> f;
  const auto set = [&](double v) HWY_ATTR { return hn::Set(f, static_cast<float>(v)); };
  const double whole_x = 2 * std::floor(start.x / 2), whole_y = 2 * std::floor(start.y / 2);
  const Bilinear sample{picture, static_cast<int>(whole_x), static_cast<int>(whole_y)};
  const auto x0 = set(start.x - whole_x), y0 = set(start.y - whole_y);
  const auto dx = set(step.x), dy = set(step.y);
  // However it is rounded, all four neighbours are read from the picture.
  const auto left = set(-whole_x), above = set(-whole_y);
  const auto right = set(picture.width() - 1.01 - whole_x), below = set(picture.height() - 1.01 - whole_y);
  const size_t lanes = hn::Lanes(f);
  for (size_t i = 0; i < sums.size(); i += lanes) {
    const size_t count = std::min(lanes, sums.size() - i);
    // Beyond the last, the last is read once more.
    const auto k = hn::Min(hn::Iota(f, static_cast<float>(i)), set(static_cast<double>(sums.size() - 1)));
    const auto x = hn::Clamp(hn::MulAdd(dx, k, x0), left, right),
               y = hn::Clamp(hn::MulAdd(dy, k, y0), above, below);
    const auto seen = sample(x, y);
    float* to = sums.data() + i;
    if (count == lanes) {
      hn::StoreU(hn::Add(hn::LoadU(f, to), seen), f, to);
    } else {
      HWY_ALIGN float rest[HWY_MAX_BYTES / sizeof(float)];
      hn::Store(seen, f, rest);
      for (size_t j = 0; j < count; ++j) to[j] += rest[j];
    }
  }
}

void add_reading_skew_kernel(Point2 start, Point2 step, std::span<float> sums) {
  namespace hn = hwy::HWY_NAMESPACE;
  const hn::ScalableTag<float> f;
  const auto set = [&](double v) HWY_ATTR { return hn::Set(f, static_cast<float>(v)); };
  const double square = step.x * step.x + step.y * step.y;
  const auto cubed = [](double v) { return v * v * v; };
  const auto by_x = set(cubed(step.x / square)), by_y = set(cubed(step.y / square));
  const auto x0 = set(start.x - std::floor(start.x)), y0 = set(start.y - std::floor(start.y));
  const auto dx = set(step.x), dy = set(step.y), one = set(1);
  const auto third = [&](hn::Vec<decltype(f)> v) HWY_ATTR {
    const auto part = hn::Sub(v, hn::Floor(v)), rest = hn::Sub(one, part);
    return hn::Mul(hn::Mul(part, rest), hn::Sub(rest, part));
  };
  const size_t lanes = hn::Lanes(f);
  for (size_t i = 0; i < sums.size(); i += lanes) {
    const auto k = hn::Iota(f, static_cast<float>(i));
    const auto skew =
        hn::MulAdd(by_x, third(hn::MulAdd(dx, k, x0)), hn::Mul(by_y, third(hn::MulAdd(dy, k, y0))));
    HWY_ALIGN float rest[HWY_MAX_BYTES / sizeof(float)];
    hn::Store(skew, f, rest);
    for (size_t j = 0; j < std::min(lanes, sums.size() - i); ++j) sums[i + j] += rest[j];
  }
}

}  // namespace HWY_NAMESPACE
}  // namespace heron
HWY_AFTER_NAMESPACE();

#if HWY_ONCE
namespace heron {
HWY_EXPORT(add_samples_kernel);
HWY_EXPORT(add_reading_skew_kernel);

void add_samples(const Image<uint8_t>& picture, Point2 start, Point2 step, std::vector<float>& sums) {
  if (!sums.empty()) HWY_DYNAMIC_DISPATCH(add_samples_kernel)(picture, start, step, sums);
}

void add_reading_skew(Point2 start, Point2 step, std::span<float> sums) {
  HWY_DYNAMIC_DISPATCH(add_reading_skew_kernel)(start, step, sums);
}

}  // namespace heron
#endif
