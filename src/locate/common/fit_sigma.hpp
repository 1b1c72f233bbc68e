#pragma once
#include "heron/base/pose.hpp"

namespace heron {

/// Standard uncertainties of a fit, all of them numbers; 0 for what is held. A part without an angle has 180
/// degrees.
struct FitSigma {
  double x = 0, y = 0;
  Angle angle = {};
  double scale = 0;

  /// As a detection has it.
  PoseSigma reported(bool has_angle) const {
    return {x, y, has_angle ? std::optional(angle) : std::nullopt, scale};
  }
};

}  // namespace heron
