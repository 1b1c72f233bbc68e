#pragma once
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

/// Grey levels from which on a pixel may be saturated.
inline constexpr double brightest = 254;

/// Half the width of the band along a rim that counts: farther off, blur leaves nothing.
inline double band_of(const RimFit& rim) { return 2.6 * rim.blur + 1.5; }

/// Pixels within the band of a rim and some more; sectors from +x towards +y. Empty for an ellipse that is
/// none.
RimPixels pixels_near(const Image<uint8_t>& picture, const RimFit& rim, size_t sectors);

}  // namespace heron
