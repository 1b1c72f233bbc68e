#pragma once
#include <limits>

#include "heron/base/range.hpp"
#include "heron/image/region.hpp"

namespace heron {

/// What of a part may be inverted, dark where it was bright at teaching. A part that is always inverted is
/// taught so.
enum class Inversion {
  none,
  whole,  ///< the part as a whole, or nothing of it; costs twice as much
  local   ///< each stretch of edges by itself, as on a part before a changing background; costs about four
          ///< times as much, with a scale range about ten times (bench_pattern)
};

/// How many places are looked at before they are given up. More of it finds what is covered most, and takes
/// longer.
enum class Thoroughness { quick, normal, exhaustive };

/// What may be found. Ranges are strict; the defaults are the generous ones.
struct FindOptions {
  Range<Angle> angle = full_turn;
  Range<double> scale = {1.0, 1.0};  ///< 0.1 to 10; zero width fixes it
  double min_score = 50;             ///< 0 to 100
  double min_contrast = 8;  ///< grey levels over two pixels across an edge; a weaker edge is not seen. 1 to
                            ///< 255; millimetres for a relief
  static constexpr int all = std::numeric_limits<int>::max();
  int max_count = all;       ///< how many to return, best first; 1 or more
  double min_visible = 0.5;  ///< share of the smaller part's box that no other find covers, 0 to 1
  double max_outside = 1;    ///< share of the taught edges that may lie outside the picture, 0 to 1
  Inversion inversion = Inversion::none;
  Thoroughness thoroughness = Thoroughness::normal;
  Region region = {};  ///< where a part's origin may lie; an empty one means the whole picture
};

/// Whether to search beyond the limits as well and report what they reject; costs about as much as a few
/// finds.
enum class Explain { never, always };

}  // namespace heron
