#pragma once
#include "apply_limits.hpp"
#include "pattern_search.hpp"

namespace heron {

/// What candidates are fitted by on one level.
EdgeFitSearch edge_search(const PatternSearch& search, int level);

/// Score, contrast and edges of a candidate at its pose in the full picture, over all edges.
void see(Candidate& c, const PatternSearch& search);

/// All edges, `edge.rounds` times, then the score, then the grey values where the score reaches `min_score`.
/// False when the edges cannot be fitted; the candidate is then seen where it stands.
bool refine(Candidate& c, const EdgeFitSearch& edge, double min_score, const PatternSearch& search);

/// The last steps of a candidate that has come through all levels.
Candidate finished(Candidate c, const PatternSearch& search);

}  // namespace heron
