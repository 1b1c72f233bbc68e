#pragma once
#include "judge.hpp"

namespace heron {

/// Whether edges weaker than the least contrast are what keeps a part from its least score: it lacks it
/// without them, and they make up more of what the score lacks than all else, or it has come to the score by
/// them alone (found by a search for weaker edges). Then `contrast_wanted` is a limit with which it comes
/// halfway from the least score to what it scores with all of them, or near to that where that is less, and
/// `score` is what it would be then. Otherwise its score is that without them. Cost: as a round of a fit.
void weigh_faint_edges(Candidate& c, const FindLimits& limits, const PatternTarget& target,
                       const Survey& survey);

}  // namespace heron
