#pragma once
#include <vector>

#include "apply_limits.hpp"
#include "pattern_search.hpp"

namespace heron {

/// A pose in which a part laid over itself looks much like itself: a gear with a tooth missing turned by a
/// tooth, a comb or a bar moved along. What a fit ran into may be such a pose of the part.
struct Rival {
  Similarity2 pose;  ///< of the part over itself as taught
  double score = 0;  ///< what the taught picture shows of it there
};

/// The part's rivals, likest first, some pixels apart, found by the engine in the taught picture with nothing
/// given up. Cost: some tens of milliseconds, once a target.
std::vector<Rival> find_rivals(const PatternModel& centred);

/// Each candidate that may stand in a rival's pose is fitted where the part would then lie, and stays there
/// when that explains more of it. What explains about as much, less than half of what teaching promised
/// between the two apart, is kept with it as `other`. Cost: some microseconds a rival and candidate.
void settle_rivals(std::vector<Candidate>& candidates, const PatternSearch& search);

/// Share of what is seen of a candidate, 0 to 1, that lies on edges of `other`, which is found there too.
double share_seen_of(const Candidate& c, const Candidate& other, const PatternModel& centred);

}  // namespace heron
