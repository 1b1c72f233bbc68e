#pragma once
#include "heron/gauge/gauge.hpp"
#include "heron/report/report.hpp"
#include "measured.hpp"

namespace heron {

/// What a gauge measured as a reading with its verdict.
Reading judged(const Gauge& gauge, const GaugeSet& set, Measured measured);

/// The verdicts of parts and picture by the rules of the set; needs all readings. `has_gauges` tells of each
/// part whether a gauge follows its target; `all_found`, whether every target that gauges follow was found.
void judge(Report& report, const GaugeSet& set, const std::vector<bool>& has_gauges, bool all_found);

}  // namespace heron
