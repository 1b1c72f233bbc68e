#pragma once
#include <algorithm>
#include <cmath>

#include "canvas.hpp"

namespace heron::draw {

/// From dark blue by green to pale yellow, for shares from 0 to 1: the order is visible by brightness alone.
inline Color heat(double share) {
  static constexpr Color stops[] = {
      {0.08, 0.10, 0.32}, {0.10, 0.38, 0.50}, {0.30, 0.65, 0.45}, {0.80, 0.85, 0.40}, {1.0, 0.98, 0.80}};
  const double at = std::clamp(share, 0.0, 1.0) * 4;
  const auto i = static_cast<size_t>(std::min(3.0, std::floor(at)));
  const double f = at - static_cast<double>(i);
  const Color &a = stops[i], &b = stops[i + 1];
  return {a.r + f * (b.r - a.r), a.g + f * (b.g - a.g), a.b + f * (b.b - a.b)};
}

}  // namespace heron::draw
