#pragma once
#include <vector>

#include "apply_limits.hpp"
#include "pattern_search.hpp"

namespace heron {

/// Poses that a candidate may have slid from, or to: a stretch of the part's edges that is not seen is looked
/// for along its normal, on both sides, and the part moved so far. A plate of which one end is covered shows
/// a shorter plate, and lies at either end of it. Best by the few edges first, at most six. Cost: some tens
/// of microseconds for a part of which some is hidden, nothing for one that is all seen.
std::vector<Similarity2> slides_of(const Candidate& c, const PatternSearch& search);

}  // namespace heron
