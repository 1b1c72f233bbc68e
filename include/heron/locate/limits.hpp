#pragma once
#include "heron/base/range.hpp"
#include "heron/image/region.hpp"

namespace heron {

/// Which way an edge's brightness may run against what was taught.
enum class Polarity {
  as_taught,
  inverted,  ///< dark where it was bright
  either,    ///< one of the two, the whole part alike; costs as much as both
  per_edge   ///< each stretch of edges by itself, as on a part before a changing background; costs about
             ///< four times as much, with a scale range about ten times (bench_pattern)
};

/// What may be found. Ranges are strict; the defaults are the generous ones.
struct FindLimits {
  Range<Angle> angle = full_turn;
  Range<double> scale = {1.0, 1.0};  ///< 0.1 to 10; zero width fixes it
  double least_score = 50;           ///< 0 to 100
  double least_contrast = 8;  ///< grey levels over two pixels across an edge; a weaker edge is not seen. 1 to
                              ///< 255; millimetres for a relief
  int count = 0;              ///< the best so many; 0 means all
  double most_overlap = 0.5;  ///< share of the smaller part's box that another find may cover, 0 to 1
  double most_outside = 1;    ///< share of the taught edges that may lie outside the picture, 0 to 1
  Polarity polarity = Polarity::as_taught;
  double effort = 0.5;  ///< 0 looks at the fewest candidates, 1 at all that could still be one
  Region region = {};   ///< where a part's origin may lie; an empty one means the whole picture
};

/// Whether to search beyond the limits as well and report what they reject; costs about as much as a few
/// finds.
enum class Explain { never, always };

}  // namespace heron
