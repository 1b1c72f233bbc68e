#pragma once
#include <cmath>

#include "locate/pattern/model/pattern_model.hpp"

namespace heron {

/// Two poses whose middles lie nearer than this, times the scale, are of the same part.
inline double spot_radius(const PatternModel& target) {
  return 0.15 * std::sqrt(target.extent().width * target.extent().height);
}

/// How far the outer edges lie from the middle.
inline double half_diagonal(const PatternModel& target) {
  return 0.5 * std::hypot(target.extent().width, target.extent().height);
}

}  // namespace heron
