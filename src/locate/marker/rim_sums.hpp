#pragma once
#include <array>
#include <vector>

#include "rim_pixels.hpp"

namespace heron {

/// Of one sector, over the pixels in the rim's band: phi is the share of the outside's light, s its six
/// slopes by centre x, y, radius, a, b and the logarithm of the blur.
struct RimSums {
  std::array<float, 21> slopes{};     ///< s s', rows of the upper triangle
  std::array<float, 6> inside{};      ///< s (1 - phi)
  std::array<float, 6> outside{};     ///< s phi
  std::array<float, 6> grey{};        ///< s grey
  std::array<float, 3> light{};       ///< (1 - phi)^2, (1 - phi) phi, phi^2
  std::array<float, 2> light_grey{};  ///< grey (1 - phi), grey phi
  float grey_square = 0, count = 0;
  /// The far parts of the band, where a rim's own step is nearly over: inside then outside, the nearer half
  /// of each first.
  struct Ring {
    float count = 0, grey = 0, phi = 0;
  };
  std::array<Ring, 4> rings{};
};

/// Where those rings begin and part, as shares of the band.
inline constexpr double ring_begins = 0.45, ring_parts = 0.72;

/// Grey levels inside and outside of a sector.
struct RimLight {
  double inside = 0, outside = 0;
};

/// The sums of each sector, all that a step of least squares needs whatever its light is. `lights` are what
/// is thought of them so far, or empty: a pixel that is as bright as pixels can be says nothing where at
/// least that is expected, and is left out. Cost: some nanoseconds a pixel.
void rim_sums(const RimPixels& pixels, const RimFit& rim, const std::vector<RimLight>& lights,
              std::vector<RimSums>& sums);
/// The same without vector instructions; sums differ by rounding alone.
void rim_sums_plain(const RimPixels& pixels, const RimFit& rim, const std::vector<RimLight>& lights,
                    std::vector<RimSums>& sums);

}  // namespace heron
