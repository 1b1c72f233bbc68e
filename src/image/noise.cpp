#include "heron/image/noise.hpp"

#include <algorithm>
#include <array>
#include <cstdlib>
#include <vector>

#include "heron/image/parallel.hpp"

namespace heron {

namespace {

/// How often each size of the mask's answer came. Neighbours count in tables of their own: as they mostly
/// differ by little, one would wait for the other.
struct Answers {
  std::array<std::array<int, 2048>, 2> counts{};
  int of(size_t size) const { return counts[0][size] + counts[1][size]; }
  void add_row(const ImageView<const uint8_t>& picture, int y, std::vector<uint16_t>& sizes) {
    const uint8_t *a = picture.row(y - 1), *b = picture.row(y), *c = picture.row(y + 1);
    for (size_t x = 0; x < sizes.size(); ++x) {
      const int answer = a[x] - 2 * a[x + 1] + a[x + 2] - 2 * (b[x] - 2 * b[x + 1] + b[x + 2]) + c[x] -
                         2 * c[x + 1] + c[x + 2];
      sizes[x] = static_cast<uint16_t>(std::min(std::abs(answer), 2047));
    }
    for (size_t x = 0; x < sizes.size(); ++x) ++counts[x % 2][sizes[x]];
  }
};

}  // namespace

double noise_sigma(const ImageView<const uint8_t>& picture) {
  constexpr int at_once = 16;
  if (picture.width() < 3 || picture.height() < 3) return 0;
  const int step = std::max(1, picture.height() / 64), rows = (picture.height() - 3) / step + 1;
  std::vector<Answers> parts(static_cast<size_t>((rows + at_once - 1) / at_once));
  parallel_rows(rows, at_once, [&](int first, int end) {
    std::vector<uint16_t> sizes(static_cast<size_t>(picture.width()) - 2);
    for (int i = first; i < end; ++i)
      parts[static_cast<size_t>(first / at_once)].add_row(picture, 1 + i * step, sizes);
  });
  const int64_t total = static_cast<int64_t>(rows) * (picture.width() - 2);
  int64_t below = 0;
  size_t median = 0;
  const auto count = [&](size_t size) {
    int sum = 0;
    for (const Answers& part : parts) sum += part.of(size);
    return sum;
  };
  while (median < 2047 && (below += count(median)) * 2 < total) ++median;
  return 1.4826 * static_cast<double>(median) / 6.0;  // the mask's weights have a root sum of squares of 6
}

}  // namespace heron
