#pragma once
#include <vector>

#include "apply_limits.hpp"
#include "pattern_search.hpp"

namespace heron {

/// All that may be the part, found on the coarse level, carried down to the full picture and fitted there.
std::vector<Candidate> candidates_of(const PatternSearch& search);

}  // namespace heron
