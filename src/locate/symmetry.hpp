#pragma once
#include <vector>

#include "heron/locate/pattern.hpp"

namespace heron {

/// How a set of edges looks when it is turned.
struct Symmetry {
  int turns = 1;  ///< how often it looks the same in a full turn
  Point2 centre;  ///< about which
};

/// Whether the edges come to lie on themselves after half a turn, a third, ... a twenty-fourth, within a
/// pixel and a quarter and 22 degrees, 95 of 100, about the centre where they meet best. Cost: some
/// milliseconds.
Symmetry symmetry_of(const std::vector<TaughtEdge>& edges);

}  // namespace heron
