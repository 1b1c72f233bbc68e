#pragma once
#include "heron/base/range.hpp"
#include "heron/locate/prepared_picture.hpp"
#include "locate/scan/scan_line.hpp"
#include "polyline.hpp"

namespace heron {

/// A line near a side: a point `t` pixels along the side from its middle lies `off + tilt * t` inwards of it.
struct SideLine {
  double off = 0, tilt = 0, contrast = 0;  ///< contrast: inside less outside, grey levels
};

/// How edges across sides are met.
struct SideSearch {
  double reach = 10;     ///< pixels to either side
  double threshold = 8;  ///< grey levels
  double max_tilt = 0.2;
};

/// The straight edge along a side that its scans agree with best, weighed by contrast; `sense` 0 takes
/// either. Nothing where less than a quarter of the scans agree.
std::optional<SideLine> line_near(const PreparedPicture& prepared, const Polyline& line, size_t side,
                                  int sense, const SideSearch& search);

/// That line fitted to the grey values, through strips of the whole side but for its ends.
LineEdge settled_line(const PreparedPicture& prepared, const Polyline& line, size_t side,
                      const SideLine& start);

/// Where a border may lie.
struct BorderRange {
  Range<double> x, y;  ///< of the shift
  Range<Angle> turn;
  Range<double> scale;
  double give = 5, threshold = 8;
};

struct BorderGuess {
  BorderPose pose;
  double agree = 0;  ///< share of the scans, weighed by how near they lie
};

/// The pose that scans across the sides agree with best. `senses`: of each side's contrast, 1 or -1.
std::optional<BorderGuess> guess_border(const PreparedPicture& prepared, const Polyline& taught,
                                        Point2 origin, const std::vector<int>& senses,
                                        const BorderRange& range);

}  // namespace heron
