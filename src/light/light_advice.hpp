#pragma once
#include "heron/light/light.hpp"

namespace heron {

/// Grey levels between which the brightest 2 % of a good picture lie.
inline constexpr int min_bright = 140, max_bright = 245;

/// What to do, in the practitioner's order: exposure, gain, light, focus, angle of lamp and camera. `bright`
/// is the 98th percentile of the brightness.
std::vector<std::string> light_advice(const LightReport& report, const LightOptions& options, int bright,
                                      const std::string& dark_side);

}  // namespace heron
