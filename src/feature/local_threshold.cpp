#include "local_threshold.hpp"

#include <algorithm>
#include <cmath>
#include <vector>

namespace heron {
namespace {

constexpr int block_side = 4;  // a mean over a window hardly changes within so many pixels

/// Sums of the picture over blocks, as a table of running sums: at (i, j) the sum of all blocks before.
struct BlockSums {
  int across, down;
  std::vector<uint32_t> table;  // differences are right modulo 2^32 while a window holds less than that

  explicit BlockSums(const ImageView<const uint8_t>& picture)
      : across((picture.width() + block_side - 1) / block_side),
        down((picture.height() + block_side - 1) / block_side),
        table(static_cast<size_t>(across + 1) * static_cast<size_t>(down + 1), 0) {
    std::vector<uint16_t> column(static_cast<size_t>(across) * block_side, 0);
    for (int j = 0; j < down; ++j) {
      std::fill(column.begin(), column.end(), uint16_t{0});
      for (int y = j * block_side; y < std::min(picture.height(), (j + 1) * block_side); ++y) {
        const uint8_t* row = picture.row(y);
        uint16_t* __restrict sum = column.data();
        for (int x = 0; x < picture.width(); ++x) sum[x] = static_cast<uint16_t>(sum[x] + row[x]);
      }
      const uint32_t* above = &table[static_cast<size_t>(j) * static_cast<size_t>(across + 1)];
      uint32_t* here = &table[static_cast<size_t>(j + 1) * static_cast<size_t>(across + 1)];
      uint32_t run = 0;
      for (int i = 0; i < across; ++i) {
        const uint16_t* c = &column[static_cast<size_t>(i) * block_side];
        run += static_cast<uint32_t>(c[0] + c[1] + c[2] + c[3]);
        here[i + 1] = above[i + 1] + run;
      }
    }
  }

  uint32_t sum(int i0, int j0, int i1, int j1) const {  // ends not included
    const auto at = [&](int i, int j) {
      return table[static_cast<size_t>(j) * static_cast<size_t>(across + 1) + static_cast<size_t>(i)];
    };
    return at(i1, j1) - at(i0, j1) - at(i1, j0) + at(i0, j0);
  }
};

}  // namespace

Image<uint8_t> darker_than_around(const ImageView<const uint8_t>& picture, int window, bool bright) {
  const int w = picture.width(), h = picture.height();
  const int reach =
      std::max(1, static_cast<int>(std::lround((window / 2.0 - block_side / 2.0) / block_side)));
  Image<uint8_t> mask(w, h);
  const BlockSums sums(picture);
  std::vector<uint8_t> limit(static_cast<size_t>(sums.across) * block_side);
  for (int j = 0; j < sums.down; ++j) {
    const int j0 = std::max(0, j - reach), j1 = std::min(sums.down, j + reach + 1);
    const int rows = std::min(h, j1 * block_side) - j0 * block_side;
    for (int i = 0; i < sums.across; ++i) {
      const int i0 = std::max(0, i - reach), i1 = std::min(sums.across, i + reach + 1);
      const int columns = std::min(w, i1 * block_side) - i0 * block_side;
      const float mean = static_cast<float>(sums.sum(i0, j0, i1, j1)) /
                         (static_cast<float>(rows) * static_cast<float>(columns));
      const float apart = std::max(8.0f, 0.12f * mean);
      // As whole numbers, rounded down for `> limit` and up for `< limit`.
      const float exact = std::clamp(bright ? mean + apart : mean - apart, 0.0f, 255.0f);
      int rounded = static_cast<int>(exact);
      if (!bright && static_cast<float>(rounded) < exact) ++rounded;
      std::fill_n(&limit[static_cast<size_t>(i) * block_side], block_side, static_cast<uint8_t>(rounded));
    }
    for (int y = j * block_side; y < std::min(h, (j + 1) * block_side); ++y) {
      const uint8_t* in = picture.row(y);
      uint8_t* __restrict out = mask.row(y);
      const uint8_t* edge = limit.data();
      if (bright)
        for (int x = 0; x < w; ++x) out[x] = in[x] > edge[x] ? 255 : 0;
      else
        for (int x = 0; x < w; ++x) out[x] = in[x] < edge[x] ? 255 : 0;
    }
  }
  return mask;
}

}  // namespace heron
