#pragma once
#include "heron/locate/pattern.hpp"

namespace heron {

/// Throws Error{invalid_argument} when a limit is out of its range or its ends are swapped.
void require_valid(const FindLimits& limits);

/// The limits with their contrast in grey levels, for a target of which one level stands for `unit`.
FindLimits in_grey_levels(FindLimits limits, double unit);

}  // namespace heron
