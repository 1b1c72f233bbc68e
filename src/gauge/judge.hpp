#pragma once
#include "heron/gauge/gauge.hpp"
#include "heron/gauge/measure.hpp"
#include "heron/report/report.hpp"
#include "measured.hpp"

namespace heron {

/// What a gauge measured as a reading with its verdict.
Reading judged(const Gauge& gauge, const GaugeSet& set, Measured measured);

}  // namespace heron
