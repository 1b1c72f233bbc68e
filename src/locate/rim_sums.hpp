#pragma once
#include <array>
#include <vector>

#include "heron/image/image.hpp"
#include "rim.hpp"

namespace heron {

/// The pixels near a rim, sector by sector; each sector filled up with pixels that are nowhere to a whole
/// number of vectors.
struct RimPixels {
  Point2 origin;                  ///< whole pixels; x and y are from here
  std::vector<float> x, y, grey;  ///< grey from the sector's `level`
  std::vector<size_t> first;      ///< of each sector, and the end
  std::vector<float> level;       ///< of each sector: its mean brightness
  std::vector<float> blinded;  ///< of each sector: share of its brighter pixels that are as bright as can be
  double slack = 0;            ///< pixels farther than the rim's band that are held too
  Ellipse about;               ///< the rim that they were gathered for
  double band = 0;             ///< either side of it

  /// Whether all pixels that count for the rim are held.
  bool serve(const RimFit& rim) const;
};

/// Grey levels from which on a pixel may have been brighter than it can tell.
inline constexpr double brightest = 254;

/// Half the width of the band along a rim that counts: farther off, blur leaves nothing.
inline double band_of(const RimFit& rim) { return 2.6 * rim.blur + 1.5; }

/// Pixels within the band of a rim and some more; sectors from +x towards +y. Empty for an ellipse that is
/// none.
RimPixels pixels_near(const Image<uint8_t>& picture, const RimFit& rim, size_t sectors);

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
};

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
