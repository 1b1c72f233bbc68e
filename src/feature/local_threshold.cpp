#include "local_threshold.hpp"

#include <algorithm>
#include <vector>

namespace heron {

Image<uint8_t> darker_than_around(const ImageView<const uint8_t>& picture, int window, bool bright) {
  const int w = picture.width(), h = picture.height(), r = window / 2;
  Image<uint8_t> mask(w, h);
  std::vector<int> column(static_cast<size_t>(w), 0);  // sums over the window's rows
  std::vector<int64_t> run(static_cast<size_t>(w) + 1, 0);
  for (int y = 0; y < std::min(h, r); ++y)
    for (int x = 0; x < w; ++x) column[static_cast<size_t>(x)] += picture(x, y);
  for (int y = 0; y < h; ++y) {
    if (y + r < h)
      for (int x = 0; x < w; ++x) column[static_cast<size_t>(x)] += picture(x, y + r);
    if (y - r - 1 >= 0)
      for (int x = 0; x < w; ++x) column[static_cast<size_t>(x)] -= picture(x, y - r - 1);
    const int rows = std::min(h - 1, y + r) - std::max(0, y - r) + 1;
    for (int x = 0; x < w; ++x)
      run[static_cast<size_t>(x) + 1] = run[static_cast<size_t>(x)] + column[static_cast<size_t>(x)];
    for (int x = 0; x < w; ++x) {
      const int x0 = std::max(0, x - r), x1 = std::min(w - 1, x + r);
      const double mean =
          static_cast<double>(run[static_cast<size_t>(x1) + 1] - run[static_cast<size_t>(x0)]) /
          (rows * (x1 - x0 + 1));
      const double apart = std::max(8.0, 0.12 * mean);
      mask(x, y) = (bright ? picture(x, y) > mean + apart : picture(x, y) < mean - apart) ? 255 : 0;
    }
  }
  return mask;
}

}  // namespace heron
