#pragma once
#include <array>

#include "heron/locate/prepared_picture.hpp"

namespace heron {

inline constexpr int direction_steps = 16;  // quantised directions of a full turn
inline constexpr int best_response = 4;     // an edge of the very direction
/// The step of a direction given in 256ths of a turn.
inline int direction_step(int byte) { return ((byte + 8) >> 4) & 15; }

/// For each of 16 directions: how well each pixel's neighbourhood responds to an edge of that direction, 0
/// to 4, over the rows `first` to `first + rows` of a level. A margin of `pad` pixels around them answers 0
/// where the level ends, so that a pose may reach beyond it.
struct ResponseMaps {
  int pad = 0;
  std::array<Image<uint8_t>, direction_steps> maps;
};

/// Of the rows from `first` on, of edges of at least `min_size`.
ResponseMaps response_maps(const Gradients& gradients, int min_size, int pad, int first, int rows);

}  // namespace heron
