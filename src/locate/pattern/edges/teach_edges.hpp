#pragma once
#include <vector>

#include "heron/locate/pattern.hpp"

namespace heron {

/// Pixels under a zero mask replaced by the nearest ones that count, so that nothing under the mask is ever
/// read and the mask's border makes no edge of its own.
Image<uint8_t> filled_under_mask(const Image<uint8_t>& pixels, const Image<uint8_t>& mask);

/// Gradient size (grey levels over two pixels) that an edge needs to be taught: above the noise and above a
/// fifth of the strongest edges.
double chosen_strength(const Image<uint8_t>& pixels, const Image<uint8_t>& mask, double noise_sigma);

/// Sub-pixel edges of one pyramid level: gradient maxima across the edge, linked from `strength` down to half
/// of it, chains of fewer than `min_chain` pixels left out. Places in coordinates of that level; on level 0
/// exact, above as a search will meet them.
std::vector<TaughtEdge> edges_of(const Image<uint8_t>& picture, int level, double strength, int min_chain);

}  // namespace heron
