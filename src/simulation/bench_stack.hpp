#pragma once
#include <string>

#include "heron/base/angle.hpp"
#include "heron/render/random.hpp"

namespace heron {

/// Two piles of floor boards side by side, seen as a height map of 400 x 300 pixels of 0.5 mm; the right one
/// has `more` boards than the left one's ten.
struct BenchStack {
  static constexpr int boards = 10;
  static constexpr double board_mm = 3;
  int more = 1;
  Angle top_slant = {};  ///< of the right pile's top along x: a chip lies under its uppermost board
};

/// Writes it as TIFF, with noise and holes.
void save_stack(const std::string& path, const BenchStack& stack, render::Random& random);

}  // namespace heron
