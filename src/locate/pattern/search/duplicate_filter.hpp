#pragma once
#include <optional>
#include <vector>

#include "apply_limits.hpp"
#include "heron/base/range.hpp"
#include "locate/pattern/coarse/coarse_hits.hpp"
#include "overlap.hpp"

namespace heron {

/// How freely candidates are given up for being echoes: a part that is found answers in dozens of other poses
/// over the same place.
struct EchoLimits {
  Range<double> scale;
  double effort = 0.5;  ///< 1 keeps them all
  double max_overlap = 0.5;
};

/// Tells candidates that are a part of their own from echoes of another one. Candidates come best first.
class DuplicateFilter {
 public:
  DuplicateFilter(const PatternModel& target, const EchoLimits& options);

  /// Takes out of `hits` those that lie by half over no better one.
  std::vector<Candidate> take_leaders(std::vector<Candidate>& hits) const;

  /// A part that is seen nearly whole.
  struct Whole {
    Point2 middle;
    double echo;    ///< the score below which hits over it are its echoes
    double sure;    ///< all hits whose middles lie so near, at whatever angle, lie over it; pixels
    bool is_first;  ///< it lies over no other that is known so far
  };
  /// Remembers a fit that shows a part nearly whole; returns it then.
  std::optional<Whole> learn(const Candidate& fit);
  /// Whether a fit converged to the pose of a remembered part, and is hardly better: it is that part.
  bool is_again(const Candidate& fit, int level) const;
  bool knows_any() const { return !wholes_.empty(); }
  /// Whether a hit lies by half over a part that is seen nearly whole, and even as a hit, which forgives
  /// much, is worse than that: no fit would make another part of it.
  bool is_explained(const Candidate& hit) const;

  /// Fits that ran into the same pose are one; the best of them comes first already. One that lies on the
  /// spot of a much better one, or overlaps it by half and by more than two finds may, has no say in the end.
  std::vector<Candidate> distinct(std::vector<Candidate> fits, int level) const;

 private:
  struct Placed {
    Similarity2 pose;
    Footprint box;
  };
  Placed placed(const Candidate& c) const;
  bool on_spot(const Placed& a, const Placed& b) const;
  bool lies_over(const Placed& a, const Placed& b) const;
  double sure_reach() const;
  bool same_pose(const Placed& a, const Placed& b, int level) const;

  struct Known {
    Placed place;
    double score, echo;
  };
  const PatternModel& target_;
  std::vector<Known> wholes_;
  double effort_, min_scale_, radius_, spot_, max_;
  double reach_, sure_;  ///< beyond the first, middles of parts that lie over each other never lie; within
                         ///< the second, always
};

}  // namespace heron
