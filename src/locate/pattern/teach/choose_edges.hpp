#pragma once
#include <vector>

#include "locate/pattern/edges/contour_segments.hpp"
#include "locate/pattern/model/pattern_model.hpp"

namespace heron {

Box extent_of(const std::vector<TaughtEdge>& edges);

/// Throws when the edges let the part slide in one direction, and names it.
void require_both_directions(const std::vector<TaughtEdge>& edges);

/// Whether turning the part moves its edges: the lever of a turn, about the point where it is least.
bool edges_hold_angle(const std::vector<TaughtEdge>& edges);

/// Whether a search may begin with these edges: what lets the part slide sends it anywhere along.
bool hold_both_ways(const std::vector<TaughtEdge>& edges);

/// A choice that is spread well and of which no small share holds the part either way: where few edges run
/// across the others, more of those are taken than their number asks for.
std::vector<TaughtEdge> holding_choice(const std::vector<TaughtEdge>& edges, size_t most);

EdgeColumns columns_of(const std::vector<TaughtEdge>& edges, const Box& extent,
                       const ContourSegments& segments);

}  // namespace heron
