#pragma once
#include <vector>

#include "edge_sums.hpp"
#include "heron/locate/pattern.hpp"

namespace heron {

/// ContourSegments of a part's outline: edges that lie near each other and point much the same way, so that
/// what is behind the part changes the brightness across them all alike. A part has a dozen or two.
class ContourSegments {
 public:
  /// So many, and so spread, that each of `edges` is near the first of one.
  ContourSegments(const std::vector<TaughtEdge>& edges, const Box& extent);
  /// The nearest stretch.
  int of(const TaughtEdge& edge) const;
  /// Groups the edges of each segment, keeping their order within it; returns where each segment ends.
  std::vector<int> sort(std::vector<TaughtEdge>& edges) const;
  int count() const { return static_cast<int>(firsts_.size()); }

 private:
  double far_from(const TaughtEdge& a, const TaughtEdge& b) const;

  std::vector<TaughtEdge> firsts_;
  double near_by_ = 1;
};

/// Of what was met of each edge with rising and with falling brightness, leaves in `met` for every stretch
/// that of which more is seen.
void keep_better_sign(const EdgeColumns& edges, const EdgeSamples& falling, int reach, EdgeSamples& met);

}  // namespace heron
