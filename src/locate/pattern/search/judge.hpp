#pragma once
#include <memory>
#include <vector>

#include "heron/locate/survey.hpp"
#include "locate/pattern/edges/edge_fit.hpp"
#include "locate/pattern/model/pattern_model.hpp"

namespace heron {

/// A fitted pose before it is judged by the limits.
struct Candidate {
  Similarity2 pose;
  double score = 0, contrast = 0;
  PoseSigma sigma = {};
  Rise rise = Rise::up;
  double outside = 0;                          ///< share of the taught edges that lie outside the picture
  std::shared_ptr<const SeenEdges> seen = {};  ///< at `pose`; nothing before it is finished
  std::optional<OtherPose> other = {};         ///< that explains about as much
  std::optional<double> contrast_wanted = {};  ///< by its weak edges, where these are the reason
};

/// Sorts candidates into sightings and misses. Of two on the same spot the better one counts and the other is
/// forgotten; of two that overlap, or that are too many, the worse is a miss that says so.
Findings judged(const PatternModel& target, const Survey& survey, std::vector<Candidate> candidates,
                const FindLimits& limits);

/// Adds misses that are not yet told, best first, eight at most.
void add_misses(Findings& findings, const std::vector<Miss>& more);

}  // namespace heron
