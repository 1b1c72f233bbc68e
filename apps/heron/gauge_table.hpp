#pragma once
#include "heron/gauge/gauge.hpp"
#include "heron/report/report.hpp"

namespace heron::tool {

/// "12.031 mm", "9", "not found".
std::string reading_words(const Reading& reading);
/// "11.8..12.2", "at least 3", "-".
std::string limits_words(const Limits& limits);
/// A table of readings and the verdicts of parts and picture, for people.
void print_readings(const Report& report);
/// One line a reading, as after `gauge add`.
void print_reading(const Reading& reading);

}  // namespace heron::tool
