#pragma once
#include <cmath>

namespace heron {

/// 1, 2 or 5 times a power of ten, of which `length` holds four to ten: for ticks, contours and scale bars.
inline double round_step(double length) {
  const double power = std::pow(10, std::floor(std::log10(length / 4)));
  for (const double step : {5.0, 2.0})
    if (length / (step * power) >= 4) return step * power;
  return power;
}

}  // namespace heron
