#pragma once
#include <optional>

#include "judge.hpp"

namespace heron {

/// What keeps a part from its least score when edges are weaker than the least contrast.
struct ContrastWanted {
  double contrast = 0;  ///< a limit with which it would come halfway from the least score to `score`
  double score = 0;     ///< that it would come to without a limit
};

/// Nothing where weak edges are not the reason: they make up less of what the score lacks than all else, and
/// the score was not only reached by a search for weaker ones. Cost: as a round of a fit.
std::optional<ContrastWanted> contrast_wanted(const Candidate& c, const FindLimits& limits,
                                              const PatternTarget& target, const Survey& survey);

}  // namespace heron
