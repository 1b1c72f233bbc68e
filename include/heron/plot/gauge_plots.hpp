#pragma once
#include "heron/gauge/learn.hpp"
#include "heron/gauge/repeatability.hpp"
#include "heron/plot/plot.hpp"

namespace heron {

/// What examples say of each gauge that has a proposal: good readings as rings, bad ones as crosses, the
/// proposed limits as lines, and the gap between good and bad shaded. A plot a gauge, at most nine.
PlotSheet learned_plot(const LearnedLimits& learned, const std::vector<ExamplePart>& parts);

/// The readings of each gauge picture by picture, their mean, and the limits. A plot a gauge, at most nine.
PlotSheet repeatability_plot(const std::vector<Repeatability>& gauges);

}  // namespace heron
