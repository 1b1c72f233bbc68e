#pragma once
#include "heron/locate/pattern.hpp"

namespace heron {

/// Throws Error{invalid_argument} when a limit is out of its range or its ends are swapped.
void require_valid(const FindLimits& limits);

}  // namespace heron
