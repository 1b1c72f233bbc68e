#pragma once
#include <cmath>

namespace heron {

/// Tukey's biweight of a residual, in units of the limit at which it ends (Huber, Robust Statistics, 1981).
inline double tukey_weight(double residual) {
  const double root = 1 - residual * residual;
  return std::abs(residual) < 1 ? root * root : 0;
}

}  // namespace heron
