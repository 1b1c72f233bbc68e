#pragma once
#include "apply_limits.hpp"

namespace heron {

/// Whether edges weaker than the minimum contrast are what keeps a part from its minimum score: without them
/// it lacks it, and they make up more of what it lacks to a full score than all else. Then `contrast_wanted`
/// is a limit with which it comes halfway from the minimum score to what it scores with all of them, or near
/// to that where that is less, and `score` is what it would be. Otherwise its score is that without them,
/// also where a search for weaker edges found it. Cost: as a round of a fit.
void weigh_faint_edges(Candidate& c, const FindOptions& options, const PatternModel& target,
                       const PreparedPicture& prepared);

}  // namespace heron
