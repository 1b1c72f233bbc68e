#include "heron/image/noise.hpp"

#include <algorithm>
#include <array>
#include <cstdlib>
#include <vector>

namespace heron {

double noise_sigma(const ImageView<const uint8_t>& picture) {
  if (picture.width() < 3 || picture.height() < 3) return 0;
  // Neighbours count in tables of their own: as they mostly differ by little, one would wait for the other.
  std::array<std::array<int, 2048>, 2> counts{};
  std::vector<uint16_t> answers(static_cast<size_t>(picture.width()) - 2);
  int total = 0;
  const int step = std::max(1, picture.height() / 64);
  for (int y = 1; y + 1 < picture.height(); y += step) {
    const uint8_t *a = picture.row(y - 1), *b = picture.row(y), *c = picture.row(y + 1);
    for (size_t x = 0; x < answers.size(); ++x) {
      const int answer = a[x] - 2 * a[x + 1] + a[x + 2] - 2 * (b[x] - 2 * b[x + 1] + b[x + 2]) + c[x] -
                         2 * c[x + 1] + c[x + 2];
      answers[x] = static_cast<uint16_t>(std::min(std::abs(answer), 2047));
    }
    for (size_t x = 0; x < answers.size(); ++x) ++counts[x % 2][answers[x]];
    total += static_cast<int>(answers.size());
  }
  int below = 0, median = 0;
  const auto count = [&](int answer) {
    const auto i = static_cast<size_t>(answer);
    return counts[0][i] + counts[1][i];
  };
  while (median < 2047 && (below += count(median)) * 2 < total) ++median;
  return 1.4826 * median / 6.0;  // the mask's weights have a root sum of squares of 6
}

}  // namespace heron
