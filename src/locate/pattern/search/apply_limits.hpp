#pragma once
#include <memory>
#include <vector>

#include "heron/locate/prepared_picture.hpp"
#include "locate/pattern/edges/edge_fit.hpp"
#include "locate/pattern/model/pattern_model.hpp"

namespace heron {

/// A fitted pose before it is judged by the limits.
struct Candidate {
  Similarity2 pose;
  double score = 0, contrast = 0;
  FitSigma sigma = {};
  GradientSign rise = GradientSign::up;
  double outside = 0;                          ///< share of the taught edges that lie outside the picture
  std::shared_ptr<const SeenEdges> seen = {};  ///< at `pose`; nothing before it is finished
  std::optional<OtherPose> other = {};         ///< that explains about as much
  std::optional<double> contrast_wanted = {};  ///< by its weak edges, where these are the reason
};

/// Sorts candidates into detections and misses. Of two on the same spot the better one counts and the other
/// is forgotten; of two that overlap, or that are too many, the worse is a miss with that reason.
FindResult apply_limits(const PatternModel& target, const PreparedPicture& prepared,
                        std::vector<Candidate> candidates, const FindOptions& options);

/// Adds misses that are not listed yet, best first, eight at most.
void add_misses(FindResult& result, const std::vector<Miss>& more);

}  // namespace heron
