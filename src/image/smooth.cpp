#include "heron/image/smooth.hpp"
#include "image/plain_kernels.hpp"

#include <fmt/format.h>

#include <cmath>
#include <vector>

#undef HWY_TARGET_INCLUDE
#define HWY_TARGET_INCLUDE "image/smooth.cpp"
#include <hwy/foreach_target.h>
#include <hwy/highway.h>

#ifndef HERON_SMOOTH_PLAIN
#define HERON_SMOOTH_PLAIN
namespace heron {
// out[x] = sum over k of taps[k] * rows[k][x]; serves columns (rows are picture rows) and rows (one row,
// shifted).
static void weighted_sum_plain(const float* const* rows, const float* taps, int count, float* out, int first,
                               int width) {
  for (int x = first; x < width; ++x) {
    float sum = 0;
    for (int k = 0; k < count; ++k) sum += taps[k] * rows[k][x];
    out[x] = sum;
  }
}
}  // namespace heron
#endif

HWY_BEFORE_NAMESPACE();
namespace heron {
namespace HWY_NAMESPACE {
namespace hn = hwy::HWY_NAMESPACE;

void weighted_sum(const float* const* rows, const float* taps, int count, float* out, int width) {
  const hn::ScalableTag<float> f;
  const int lanes = static_cast<int>(hn::Lanes(f));
  int x = 0;
  for (; x + lanes <= width; x += lanes) {
    auto sum = hn::Zero(f);
    for (int k = 0; k < count; ++k)
      sum = hn::Add(sum, hn::Mul(hn::Set(f, taps[k]), hn::LoadU(f, rows[k] + x)));
    hn::StoreU(sum, f, out + x);
  }
  weighted_sum_plain(rows, taps, count, out, x, width);
}

}  // namespace HWY_NAMESPACE
}  // namespace heron
HWY_AFTER_NAMESPACE();

#if HWY_ONCE
namespace heron {
HWY_EXPORT(weighted_sum);

namespace {

std::vector<float> gaussian_taps(double sigma) {
  if (!(sigma >= 0 && sigma <= 100))
    fail_argument(fmt::format("smooth: sigma {} must be from 0 to 100 pixels", sigma));
  const int reach = static_cast<int>(std::ceil(4 * sigma));
  std::vector<double> weights;
  double sum = 0;
  for (int k = -reach; k <= reach; ++k) {
    weights.push_back(reach == 0 ? 1.0 : std::exp(-0.5 * k * k / (sigma * sigma)));
    sum += weights.back();
  }
  std::vector<float> taps;
  for (double w : weights) taps.push_back(static_cast<float>(w / sum));
  return taps;
}

template <class Kernel>
Image<float> smooth_with(const ImageView<const float>& picture, double sigma, const Kernel& kernel) {
  const std::vector<float> taps = gaussian_taps(sigma);
  const int count = static_cast<int>(taps.size()), reach = count / 2;
  const int width = picture.width(), height = picture.height();
  Image<float> result(width, height);
  if (picture.empty()) return result;
  std::vector<const float*> rows(taps.size());
  std::vector<float> padded(static_cast<size_t>(width + 2 * reach));
  for (int y = 0; y < height; ++y) {
    for (int k = 0; k < count; ++k)
      rows[static_cast<size_t>(k)] = picture.row(std::clamp(y + k - reach, 0, height - 1));
    kernel(rows.data(), taps.data(), count, padded.data() + reach, width);
    std::fill_n(padded.begin(), reach, padded[static_cast<size_t>(reach)]);
    std::fill_n(padded.begin() + reach + width, reach, padded[static_cast<size_t>(reach + width - 1)]);
    for (int k = 0; k < count; ++k) rows[static_cast<size_t>(k)] = padded.data() + k;
    kernel(rows.data(), taps.data(), count, result.row(y), width);
  }
  return result;
}

}  // namespace

Image<float> smooth(const ImageView<const float>& picture, double sigma) {
  return smooth_with(picture, sigma,
                     [](const float* const* rows, const float* taps, int count, float* out, int width) {
                       HWY_DYNAMIC_DISPATCH(weighted_sum)(rows, taps, count, out, width);
                     });
}

Image<float> smooth_plain(const ImageView<const float>& picture, double sigma) {
  return smooth_with(picture, sigma,
                     [](const float* const* rows, const float* taps, int count, float* out, int width) {
                       weighted_sum_plain(rows, taps, count, out, 0, width);
                     });
}

Image<float> smooth(const ImageView<const uint8_t>& picture, double sigma) {
  Image<float> grey(picture.width(), picture.height());
  for (int y = 0; y < picture.height(); ++y) std::copy_n(picture.row(y), picture.width(), grey.row(y));
  return smooth(grey.view(), sigma);
}

}  // namespace heron
#endif
