#pragma once
#include <algorithm>
#include <cmath>
#include <span>
#include <vector>

#include "heron/base/point.hpp"
#include "heron/image/image.hpp"

namespace heron {

/// Places in a picture, from a whole pixel of it.
struct PlacesFrom {
  int origin_x = 0, origin_y = 0;  ///< even
  std::vector<float> x, y;
};

/// The origin for places about `p`.
inline int even_below(double p) { return 2 * static_cast<int>(std::floor(std::clamp(p, -1e9, 1e9) / 2)); }

/// The bilinear brightness at each place; beyond the outermost pixels' centres theirs. Cost: about a
/// nanosecond a place.
void sample_places(const Image<uint8_t>& picture, const PlacesFrom& places, std::vector<float>& brightness);

/// A bilinear reading is a mean of four pixels about its place. Adds the third moment of that mean along the
/// step, in steps cubed, at `start` and every `step` on, to each of the sums: two neighbours with the weights
/// 1 - f and f have f (1 - f) (1 - 2 f) on either axis.
void add_reading_skew(Point2 start, Point2 step, std::span<float> sums);

}  // namespace heron
