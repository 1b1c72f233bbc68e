#pragma once
#include "heron/locate/find_options.hpp"

namespace heron {

/// Throws Error{invalid_argument} when a limit is out of its range or its ends are swapped. Contrasts are in
/// units of which one grey level holds `unit`: 1, or the millimetres of a relief's step.
void require_valid(const FindOptions& options, double unit);

}  // namespace heron
