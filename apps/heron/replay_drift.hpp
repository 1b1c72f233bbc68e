#pragma once
#include <cstdint>
#include <optional>
#include <string>

#include "heron/station/station_file.hpp"

namespace heron::tool {

/// Numbers of results, both ends among them.
struct ReplayRange {
  uint64_t from = 1;
  std::optional<uint64_t> to = {};
};

/// Draws how the watched quantities of a set-up's stored results went, with what the station has learned as
/// usual. False when no result was found with today's settings: nothing is written. Throws Error{bad_file}
/// without a store, Error{invalid_argument} for a picture of another ending.
bool plot_drift(const StationFile& file, const SetUp& setup, const ReplayRange& range,
                const std::string& path);

}  // namespace heron::tool
