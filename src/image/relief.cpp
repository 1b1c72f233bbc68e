#include "heron/image/relief.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <vector>

#include "heron/image/smooth.hpp"

namespace heron {
namespace {

constexpr double surroundings = 12;  // pixels, sigma

/// Each height less the mean of what was measured around it; NaN stays.
Image<float> differences(const ImageView<const float>& heights) {
  const int w = heights.width(), h = heights.height();
  // Heights from their mean, so that float sums stay exact far from zero.
  double sum = 0, count = 0;
  for (int y = 0; y < h; ++y)
    for (int x = 0; x < w; ++x)
      if (std::isfinite(heights(x, y))) sum += static_cast<double>(heights(x, y)), ++count;
  const auto middle = static_cast<float>(count > 0 ? sum / count : 0);
  Image<float> values(w, h), known(w, h);
  for (int y = 0; y < h; ++y)
    for (int x = 0; x < w; ++x)
      if (std::isfinite(heights(x, y))) values(x, y) = heights(x, y) - middle, known(x, y) = 1;
  const Image<float> around = smooth(values, surroundings), share = smooth(known, surroundings);
  for (int y = 0; y < h; ++y)
    for (int x = 0; x < w; ++x)
      values(x, y) = known(x, y) > 0 ? values(x, y) - around(x, y) / std::max(share(x, y), 1e-6f) : NAN;
  return values;
}

/// Places without a measurement take the straight line between those that have one to their left and right,
/// so that a hole at a step makes no step of its own.
void fill_along_rows(Image<float>& relief) {
  for (int y = 0; y < relief.height(); ++y) {
    float* row = relief.row(y);
    int last = -1;
    for (int x = 0; x <= relief.width(); ++x) {
      if (x < relief.width() && !std::isfinite(row[x])) continue;
      const float left = last >= 0            ? row[last]
                         : x < relief.width() ? row[x]
                                              : 0,
                  right = x < relief.width() ? row[x] : left;
      for (int u = last + 1; u < x; ++u)
        row[u] = left + (right - left) * static_cast<float>(u - last) / static_cast<float>(x - last);
      last = x;
    }
  }
}

}  // namespace

Relief relief_of(const ImageView<const float>& heights, double step_mm) {
  if (!(step_mm > 0 && std::isfinite(step_mm)))
    fail_argument(fmt::format("relief: a step of {} mm must be above 0", step_mm));
  Image<float> relief = differences(heights);
  Relief result{Image<uint8_t>(heights.width(), heights.height()),
                Image<uint8_t>(heights.width(), heights.height())};
  for (int y = 0; y < relief.height(); ++y)
    for (int x = 0; x < relief.width(); ++x) result.valid(x, y) = std::isfinite(relief(x, y)) ? 255 : 0;
  fill_along_rows(relief);
  const auto per = static_cast<float>(1 / step_mm);
  for (int y = 0; y < relief.height(); ++y)
    for (int x = 0; x < relief.width(); ++x)
      result.pixels(x, y) =
          static_cast<uint8_t>(std::clamp(std::round(128 + relief(x, y) * per), 0.0f, 255.0f));
  return result;
}

double relief_step(const ImageView<const float>& heights, const ImageView<const uint8_t>& box_mask) {
  const Image<float> relief = differences(heights);
  std::vector<float> sizes;
  for (int y = 0; y < std::min(relief.height(), box_mask.height()); ++y)
    for (int x = 0; x < std::min(relief.width(), box_mask.width()); ++x)
      if (box_mask(x, y) && std::isfinite(relief(x, y))) sizes.push_back(std::abs(relief(x, y)));
  if (sizes.empty()) fail_argument("relief: no height was measured inside the region");
  const auto high = sizes.begin() + static_cast<std::ptrdiff_t>(sizes.size() * 96 / 100);
  std::nth_element(sizes.begin(), high, sizes.end());
  return std::max(1e-4, static_cast<double>(*high) / 100);
}

}  // namespace heron
