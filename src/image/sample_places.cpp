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

void sum_over_lanes_kernel(const Image<uint8_t>& picture, const LanesOfPlaces& places, float* sums) {
  namespace hn = hwy::HWY_NAMESPACE;
  const hn::ScalableTag<float> f;
  const auto set = [&](double v) HWY_ATTR { return hn::Set(f, static_cast<float>(v)); };
  const Bilinear sample{picture, places.origin_x, places.origin_y};
  // However it is rounded, all four neighbours are read from the picture.
  const auto left = set(-places.origin_x), above = set(-places.origin_y),
             right = set(picture.width() - 1.01 - places.origin_x),
             below = set(picture.height() - 1.01 - places.origin_y);
  // Many at a time: what was read one by one has then arrived when it is taken as vectors.
  constexpr size_t most_steps = 64, most = 4 * most_steps;
  HWY_ALIGN int32_t pixels[most];
  HWY_ALIGN float between_x[most], between_y[most], along_x[most_steps] = {}, along_y[most_steps] = {},
                                                    sum[most_steps];
  const size_t vector = hn::Lanes(f), count = places.along_x.size();
  for (size_t from = 0; from < count; from += most_steps) {
    const size_t steps = std::min(most_steps, count - from), row = (steps + vector - 1) / vector * vector;
    std::copy_n(places.along_x.data() + from, steps, along_x),
        std::copy_n(places.along_y.data() + from, steps, along_y);
    std::fill_n(sum, row, 0.0f);
    const size_t rows = most / row;  // lanes at a time
    for (size_t first = 0; first < places.lanes.size(); first += rows) {
      const size_t end = std::min(first + rows, places.lanes.size());
      size_t to = 0;
      for (size_t i = first; i < end; ++i) {
        const auto& lane = places.lanes[i];
        const auto x0 = hn::Set(f, lane.x), y0 = hn::Set(f, lane.y), dx = hn::Set(f, lane.by_x),
                   dy = hn::Set(f, lane.by_y);
        for (size_t k = 0; k < row; k += vector, to += vector) {
          const auto x = hn::Clamp(hn::MulAdd(hn::Load(f, along_x + k), dx, x0), left, right),
                     y = hn::Clamp(hn::MulAdd(hn::Load(f, along_y + k), dy, y0), above, below);
          const auto between = sample.find(x, y, pixels + to);
          hn::Store(between.x, f, between_x + to), hn::Store(between.y, f, between_y + to);
        }
      }
      sample.read(pixels, to);
      to = 0;
      for (size_t i = first; i < end; ++i)
        for (size_t k = 0; k < row; k += vector, to += vector)
          hn::Store(hn::Add(hn::Load(f, sum + k), sample.mix(pixels + to, {hn::Load(f, between_x + to),
                                                                           hn::Load(f, between_y + to)})),
                    f, sum + k);
    }
    std::copy_n(sum, steps, sums + from);
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
HWY_EXPORT(sum_over_lanes_kernel);
HWY_EXPORT(add_reading_skew_kernel);

void sum_over_lanes(const Image<uint8_t>& picture, const LanesOfPlaces& places, std::vector<float>& sums) {
  sums.assign(places.along_x.size(), 0);
  if (picture.width() >= 2 && picture.height() >= 2) {
    HWY_DYNAMIC_DISPATCH(sum_over_lanes_kernel)(picture, places, sums.data());
    return;
  }
  const double right = picture.width() - 1, bottom = picture.height() - 1;
  for (const auto& lane : places.lanes)
    for (size_t k = 0; k < sums.size(); ++k) {
      const double x = places.origin_x + lane.x + places.along_x[k] * lane.by_x,
                   y = places.origin_y + lane.y + places.along_y[k] * lane.by_y;
      sums[k] +=
          static_cast<float>(bilinear(picture.view(), std::clamp(x, 0.0, right), std::clamp(y, 0.0, bottom)));
    }
}

void add_reading_skew(Point2 start, Point2 step, std::span<float> sums) {
  HWY_DYNAMIC_DISPATCH(add_reading_skew_kernel)(start, step, sums);
}

}  // namespace heron
#endif
