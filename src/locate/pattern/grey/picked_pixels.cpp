#include "picked_pixels.hpp"

#include <algorithm>
#include <cmath>

namespace heron {
namespace {

/// A spot's rows of bits, for each quarter of a pixel that its middle may lie at.
struct SpotShapes {
  explicit SpotShapes(double radius) : reach(static_cast<int>(radius)), rows(2 * reach + 2) {
    bits.resize(static_cast<size_t>(16 * rows));
    for (int quarter = 0; quarter < 16; ++quarter)
      for (int v = 0; v < rows; ++v) {
        const double x = reach + 0.25 * (quarter & 3), y = v - reach - 0.25 * (quarter >> 2),
                     square = radius * radius - y * y;
        if (square < 0) continue;
        const double half = std::sqrt(square);
        const int first = static_cast<int>(std::ceil(x - half)), last = static_cast<int>(x + half);
        if (first <= last)
          bits[static_cast<size_t>(quarter * rows + v)] = (uint64_t{2} << last) - (uint64_t{1} << first);
      }
  }
  int reach, rows;  ///< pixels before the middle's; of all
  std::vector<uint64_t> bits;
};

constexpr double max_spot_radius = 28;  // a row's bits fit into a word

}  // namespace

void PickedPixels::clear(int left, int top, int right, int bottom) {
  first_word_ = left >> 6, words_ = (right >> 6) - first_word_ + 1;
  top_ = top, rows_ = bottom - top + 1;
  bits_.assign(static_cast<size_t>(words_ * rows_), 0);
}

void PickedPixels::pick(const GreySpots& spots, const std::vector<float>& seen, const Similarity2& pose,
                        double wider) {
  if (spots.x.empty()) return;
  const SpotShapes shapes(std::min(max_spot_radius, (spots.radius + wider) * pose.scale));
  // In quarters of a pixel, from a corner that keeps them positive.
  const int corner_x = 64 * first_word_, corner_y = top_;
  const auto c = static_cast<float>(4 * pose.scale * cos(pose.angle)),
             s = static_cast<float>(4 * pose.scale * sin(pose.angle)),
             from_x = static_cast<float>(4 * (pose.x - corner_x) + 0.5),
             from_y = static_cast<float>(4 * (pose.y - corner_y) + 0.5);
  const size_t count = spots.x.size();
  middles_.resize(2 * count);
  int32_t *x = middles_.data(), *y = x + count;
  for (size_t i = 0; i < count; ++i) {
    x[i] = static_cast<int>(c * spots.x[i] - s * spots.y[i] + from_x);
    y[i] = static_cast<int>(s * spots.x[i] + c * spots.y[i] + from_y);
  }
  for (size_t i = 0; i < count; ++i) {
    if (!(seen[static_cast<size_t>(spots.edge[i])] > 0)) continue;
    const uint64_t* shape = shapes.bits.data() + ((y[i] & 3) * 4 + (x[i] & 3)) * shapes.rows;
    const int column = (x[i] >> 2) - shapes.reach, bit = column & 63;
    uint64_t* at = bits_.data() + ((y[i] >> 2) - shapes.reach) * words_ + (column >> 6);
    for (int v = 0; v < shapes.rows; ++v) at[v * words_] |= shape[v] << bit;
    if (bit + shapes.rows > 64)
      for (int v = 0; v < shapes.rows; ++v) at[v * words_ + 1] |= shape[v] >> (64 - bit);
  }
}

}  // namespace heron
