#pragma once
#include "heron/locate/outline.hpp"
#include "heron/locate/prepared_picture.hpp"

namespace heron {

/// Where pixel `at` of `size` lies, -1 to 1 from the first to the last.
inline double share_of(int at, int size) { return size > 1 ? 2.0 * at / (size - 1) - 1 : 0; }

/// How bright the background is everywhere: a polynomial of second order over the picture, in shares of its
/// size.
struct BackdropLevel {
  std::array<double, 6> terms{};  ///< 1, u, v, uu, uv, vv; u and v from -1 to 1
  double at(double u, double v) const {
    return terms[0] + terms[1] * u + terms[2] * v + terms[3] * u * u + terms[4] * u * v + terms[5] * v * v;
  }
};

/// The level of the background, or with `behind` the light as a factor on that picture. Pixels of parts are
/// rejected as outliers (Tukey), so they must be fewer than half.
BackdropLevel level_of(const ImageView<const uint8_t>& picture, const Image<uint8_t>* behind);

/// What a silhouette is made by.
struct SilhouetteBy {
  const Image<uint8_t>* behind = nullptr;  ///< the empty picture, or nothing when it is even
  const Image<uint8_t>* spread = nullptr;  ///< eighths of a grey level that empty pictures differ by
  PartTone tone = PartTone::either;
  double threshold = 20, level = 0;  ///< as taught
};

/// 128 where a pixel differs from the background by the threshold, 40 where it does not, and so on linearly.
Image<uint8_t> silhouette_of(const PreparedPicture& prepared, const SilhouetteBy& by);

/// Differences from the background in the part's sense, for choosing a threshold: bright, dark or both.
Image<uint8_t> differences_of(const ImageView<const uint8_t>& picture, const BackdropLevel& level,
                              const Image<uint8_t>* behind, PartTone tone);

/// The limit that parts values into two groups best (Otsu, A threshold selection method from gray-level
/// histograms, IEEE Trans. SMC 9, 1979), and how far apart the groups' means lie.
struct Parted {
  double limit = 0, below = 0, above = 0;
};
Parted part_values(const std::array<int64_t, 256>& histogram);

}  // namespace heron
