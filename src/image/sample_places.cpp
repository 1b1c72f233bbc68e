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

/// Neighbours with the weights 1 - f and f: their third moment.
HWY_INLINE hwy::HWY_NAMESPACE::Vec<Bilinear::Floats> third_moment(
    hwy::HWY_NAMESPACE::Vec<Bilinear::Floats> part) {
  namespace hn = hwy::HWY_NAMESPACE;
  const auto rest = hn::Sub(hn::Set(Bilinear::Floats(), 1.0f), part);
  return hn::Mul(hn::Mul(part, rest), hn::Sub(rest, part));
}

void sum_over_lanes_kernel(const Image<uint8_t>& picture, const LanesOfPlaces& places, float* sums,
                           float* skews) {
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
                                                    sum[most_steps], cubed_x[most_steps] = {},
                                                    cubed_y[most_steps] = {}, skew[most_steps] = {};
  const size_t vector = hn::Lanes(f), count = places.along_x.size();
  for (size_t from = 0; from < count; from += most_steps) {
    const size_t steps = std::min(most_steps, count - from), row = (steps + vector - 1) / vector * vector;
    std::copy_n(places.along_x.data() + from, steps, along_x),
        std::copy_n(places.along_y.data() + from, steps, along_y);
    if (skews) {
      std::copy_n(places.cubed_x.data() + from, steps, cubed_x),
          std::copy_n(places.cubed_y.data() + from, steps, cubed_y);
      std::fill_n(skew, row, 0.0f);
    }
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
          if (skews)
            hn::Store(hn::MulAdd(third_moment(between.x), hn::Load(f, cubed_x + k),
                                 hn::MulAdd(third_moment(between.y), hn::Load(f, cubed_y + k),
                                            hn::Load(f, skew + k))),
                      f, skew + k);
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
    if (skews) std::copy_n(skew, steps, skews + from);
  }
}

}  // namespace HWY_NAMESPACE
}  // namespace heron
HWY_AFTER_NAMESPACE();

#if HWY_ONCE
#include "heron/image/sample.hpp"

namespace heron {
HWY_EXPORT(sum_over_lanes_kernel);

void sum_over_lanes(const Image<uint8_t>& picture, const LanesOfPlaces& places, std::vector<float>& sums,
                    std::vector<float>* skew) {
  sums.assign(places.along_x.size(), 0);
  if (skew) skew->assign(places.along_x.size(), 0);
  if (picture.width() >= 2 && picture.height() >= 2) {
    HWY_DYNAMIC_DISPATCH(sum_over_lanes_kernel)(picture, places, sums.data(), skew ? skew->data() : nullptr);
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

}  // namespace heron
#endif
