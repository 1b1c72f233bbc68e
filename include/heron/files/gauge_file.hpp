#pragma once
#include <string>

#include "heron/gauge/gauge.hpp"

namespace heron {

/// Writes a set of gauges as TOML; docs/formats.md. Complete or not at all. Settings that are as usual are
/// left out.
void save_gauges(const std::string& path, const GaugeSet& gauges);

/// Reads it back, loads the targets that it names from beside it, and says of each whether it was taught
/// again since its gauges were drawn (`GaugeTarget::changed`). Throws Error{bad_file} for a file that is no
/// set of gauges, a target that is missing, and a set that contradicts itself.
GaugeSet load_gauges(const std::string& path);

}  // namespace heron
