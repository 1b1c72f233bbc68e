#include "heron/image/noise.hpp"

#include <algorithm>
#include <array>
#include <cstdlib>

namespace heron {

double noise_sigma(const ImageView<const uint8_t>& picture) {
  if (picture.width() < 3 || picture.height() < 3) return 0;
  std::array<int, 2048> counts{};
  int total = 0;
  const int step = std::max(1, picture.height() / 64);
  for (int y = 1; y + 1 < picture.height(); y += step) {
    const uint8_t *a = picture.row(y - 1), *b = picture.row(y), *c = picture.row(y + 1);
    for (int x = 1; x + 1 < picture.width(); ++x) {
      const int answer = a[x - 1] - 2 * a[x] + a[x + 1] - 2 * (b[x - 1] - 2 * b[x] + b[x + 1]) + c[x - 1] -
                         2 * c[x] + c[x + 1];
      ++counts[static_cast<size_t>(std::min(std::abs(answer), 2047))];
      ++total;
    }
  }
  int below = 0, median = 0;
  while (median < 2047 && (below += counts[static_cast<size_t>(median)]) * 2 < total) ++median;
  return 1.4826 * median / 6.0;  // the mask's weights have a root sum of squares of 6
}

}  // namespace heron
