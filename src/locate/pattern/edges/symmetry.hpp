#pragma once
#include <vector>

#include "heron/locate/pattern.hpp"
#include "locate/edge_samples/edge_columns.hpp"

namespace heron {

/// How a set of edges looks when it is turned.
struct Symmetry {
  int turns = 1;  ///< how often it looks the same in a full turn
  Point2 centre;  ///< about which
};

/// What a part is turned in to see whether it looks the same.
struct TurnedPart {
  const Image<uint8_t>& picture;  ///< as taught
  const Image<uint8_t>& mask;     ///< 0 where nothing is known
  const EdgeColumns& columns;     ///< of its edges
  Point2 origin;
  double contrast;  ///< grey levels from which on an edge is seen
};

/// A part whose edges are seen by as much in another pose looks the same there; per cent.
inline constexpr double alike_from = 99;

/// Whether the part looks the same after half a turn, a third, ... a twenty-fourth, about the centre where
/// its edges meet best. Cost: some milliseconds.
Symmetry symmetry_of(const TurnedPart& part, const std::vector<TaughtEdge>& edges);

}  // namespace heron
