#pragma once
#include "heron/locate/find_options.hpp"

namespace heron {

/// Which way the brightness of edges runs that one search looks for.
enum class Polarity {
  as_taught,
  inverted,
  either,   ///< one of the two, the whole part alike: two searches
  per_edge  ///< each contour segment by itself
};

inline Polarity polarity_of(Inversion inversion) {
  return inversion == Inversion::none    ? Polarity::as_taught
         : inversion == Inversion::whole ? Polarity::either
                                         : Polarity::per_edge;
}

/// 0 looks at the fewest candidates, 1 at all that could still be one.
inline double effort_of(Thoroughness thoroughness) {
  return thoroughness == Thoroughness::quick ? 0 : thoroughness == Thoroughness::normal ? 0.5 : 1;
}

}  // namespace heron
