#pragma once
#include <list>
#include <vector>

#include "apply_limits.hpp"
#include "image/parallel.hpp"
#include "pattern_search.hpp"

namespace heron {

/// A candidate is given up when its score on a level falls below this: a share of the minimum score, since a
/// coarse level sees less of a covered part than a fine one, and no more of a high limit, which a part may
/// miss by little. More effort gives up later.
double stage_limit(const PatternSearch& search, int level);

/// Fits starts on one level.
class LevelFit {
 public:
  LevelFit(const PatternSearch& search, int level);
  /// With score 0 where nothing is.
  Candidate of(const Candidate& start) const;

 private:
  const PatternSearch& search_;
  int level_;
  const EdgeColumns& edges_;
  EdgeFitSearch edge_;
};

/// Carries candidates down to the end while others are still looked for: a part that was seen nearly whole on
/// the coarsest level will be wanted, and so no thread is without work. What comes out is what would come
/// out later.
class SpeculativeRefinement {
 public:
  explicit SpeculativeRefinement(const PatternSearch& search);
  /// Carries down a fit of the coarsest level, as soon as a thread is free for it.
  void begin(const Candidate& fit);
  /// Until all that was begun is at its end; only then may be asked for more than fits of the coarsest level.
  void wait();
  /// What a start came to on that level, and at the end, if it was carried down; else nullptr.
  const Candidate* fitted(const Candidate& start, int level) const;
  const Candidate* finished(const Candidate& start) const { return fitted(start, -1); }

 private:
  using Stages = std::vector<Candidate>;  ///< of the coarsest level, of each below, and at the end
  void carry_down(Stages& stages) const;

  const PatternSearch& search_;
  std::list<Stages> carried_;
  TaskGroup errands_;
};

}  // namespace heron
