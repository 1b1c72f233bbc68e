#pragma once
#include <cmath>
#include <vector>

#include "heron/base/point.hpp"
#include "heron/image/image.hpp"

namespace heron {

/// Lanes of places side by side: place k of a lane lies at (x + along_x[k] * by_x, y + along_y[k] * by_y)
/// from a whole pixel of the picture.
struct LanesOfPlaces {
  struct Lane {
    float x, y, by_x, by_y;
  };
  int origin_x = 0, origin_y = 0;       ///< even, of a pixel in the picture or beside it
  std::vector<float> along_x, along_y;  ///< a value a place
  std::vector<float> cubed_x, cubed_y;  ///< step / |step|^2 of the scan there, to the third power: for `skew`
  std::vector<Lane> lanes;
};

/// The even pixel at or before `p`.
inline int even_below(double p) { return 2 * static_cast<int>(std::floor(p / 2)); }

/// To `sums`, for each k, the sum over the lanes of the bilinear brightness at place k; beyond the outermost
/// pixels' centres theirs. Cost: about a nanosecond a place.
///
/// A bilinear reading is a mean of four pixels about its place. With `skew`, for each k the sum of the third
/// moments of those means along the scan, in steps cubed, is put there: two neighbours with the weights 1 - f
/// and f have f (1 - f) (1 - 2 f) on either axis.
void sum_over_lanes(const Image<uint8_t>& picture, const LanesOfPlaces& places, std::vector<float>& sums,
                    std::vector<float>* skew = nullptr);

}  // namespace heron
