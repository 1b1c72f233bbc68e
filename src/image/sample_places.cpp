#include "image/sample_places.hpp"

#include <algorithm>

#undef HWY_TARGET_INCLUDE
#define HWY_TARGET_INCLUDE "image/sample_places.cpp"
#include <hwy/foreach_target.h>
#include <hwy/highway.h>

#include "image/bilinear-inl.hpp"

HWY_BEFORE_NAMESPACE();
namespace heron {
namespace HWY_NAMESPACE {

void sample_places_kernel(const Image<uint8_t>& picture, const PlacesFrom& places, float* brightness) {
  namespace hn = hwy::HWY_NAMESPACE;
  const hn::ScalableTag<float> f;
  const auto set = [&](double v) HWY_ATTR { return hn::Set(f, static_cast<float>(v)); };
  const Bilinear sample{picture, places.origin_x, places.origin_y};
  // However it is rounded, all four neighbours are read from the picture.
  const auto left = set(-places.origin_x), above = set(-places.origin_y),
             right = set(picture.width() - 1.01 - places.origin_x),
             below = set(picture.height() - 1.01 - places.origin_y);
  constexpr size_t at_a_time = 256;  // what was read one by one has arrived when it is taken as vectors
  HWY_ALIGN int32_t pixels[at_a_time];
  HWY_ALIGN float x[at_a_time] = {}, y[at_a_time] = {};
  const size_t lanes = hn::Lanes(f);
  for (size_t from = 0; from < places.x.size(); from += at_a_time) {
    const size_t count = std::min(at_a_time, places.x.size() - from);
    std::copy_n(places.x.data() + from, count, x), std::copy_n(places.y.data() + from, count, y);
    for (size_t i = 0; i < count; i += lanes) {
      const auto between = sample.find(hn::Clamp(hn::Load(f, x + i), left, right),
                                       hn::Clamp(hn::Load(f, y + i), above, below), pixels + i);
      hn::Store(between.x, f, x + i), hn::Store(between.y, f, y + i);
    }
    sample.read(pixels, count);
    for (size_t i = 0; i < count; i += lanes)
      hn::Store(sample.mix(pixels + i, {hn::Load(f, x + i), hn::Load(f, y + i)}), f, x + i);
    std::copy_n(x, count, brightness + from);
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
#include "heron/image/sample.hpp"

namespace heron {
HWY_EXPORT(sample_places_kernel);
HWY_EXPORT(add_reading_skew_kernel);

void sample_places(const Image<uint8_t>& picture, const PlacesFrom& places, std::vector<float>& brightness) {
  brightness.resize(places.x.size());
  if (picture.width() >= 2 && picture.height() >= 2) {
    HWY_DYNAMIC_DISPATCH(sample_places_kernel)(picture, places, brightness.data());
    return;
  }
  const double right = picture.width() - 1, bottom = picture.height() - 1;
  for (size_t i = 0; i < places.x.size(); ++i)
    brightness[i] = static_cast<float>(
        bilinear(picture.view(), std::clamp<double>(places.origin_x + places.x[i], 0, right),
                 std::clamp<double>(places.origin_y + places.y[i], 0, bottom)));
}

void add_reading_skew(Point2 start, Point2 step, std::span<float> sums) {
  HWY_DYNAMIC_DISPATCH(add_reading_skew_kernel)(start, step, sums);
}

}  // namespace heron
#endif
