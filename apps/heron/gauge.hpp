#pragma once
#include <optional>

#include "commands.hpp"
#include "heron/files/mapping_file.hpp"
#include "heron/report/report.hpp"

namespace heron::tool {

/// The frames of a mapping that may not be there.
Frames frames_of(const std::optional<MappingRecord>& mapping);

void add_gauge_add(CLI::App& gauge, Action& action);
void add_gauge_measure(CLI::App& gauge, Action& action);
void add_gauge_learn(CLI::App& gauge, Action& action);
void add_gauge_study(CLI::App& gauge, Action& action);

/// 0 for good, 1 for every other verdict.
int status_of(const Report& report);

}  // namespace heron::tool
