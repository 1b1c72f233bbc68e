#pragma once
#include <string>
#include <vector>

#include "heron/report/report.hpp"

namespace heron {

/// What is another in the second of two reports of the same picture, in words: parts that are gone, new or
/// elsewhere, and other verdicts, of parts, gauges and the picture. A part counts as the same when it is of
/// the same target and lies within half a pixel and half a degree; nothing is said of scores and times.
std::vector<std::string> differences(const Report& then, const Report& now);

}  // namespace heron
