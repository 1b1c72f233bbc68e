#include "contrast_wanted.hpp"

#include <algorithm>

#include "pattern_search.hpp"

namespace heron {

std::optional<ContrastWanted> contrast_wanted(const Candidate& c, const FindLimits& limits,
                                              const PatternTarget& target, const Survey& survey) {
  // What lies on a part is no weak edge of it, nor is its noise.
  const double noise = c.score < limits.least_score ? 3 * survey.noise_sigma(0) : 0;
  const double faintest = std::min(std::max(weakest_contrast, noise), limits.least_contrast);
  std::vector<float> contrasts;
  const EdgeColumns& edges = target.columns()[0];
  const SeenEdges seen = see_edges(survey.level(0), edges, c.pose, faintest, c.rise, &contrasts);
  std::vector<std::pair<double, double>> edge_and_share;
  for (size_t i = 0; i < edges.count; ++i)
    if (seen.weights[i] > 0)
      edge_and_share.emplace_back(contrasts[i], 100.0 * seen.weights[i] / static_cast<double>(edges.count));
  std::sort(edge_and_share.rbegin(), edge_and_share.rend());
  double within = 0;
  for (const auto& [contrast, share] : edge_and_share) within += contrast < limits.least_contrast ? 0 : share;
  const bool is_the_reason = seen.score - within > 100 - seen.score || c.score >= limits.least_score;
  if (within >= limits.least_score || !is_the_reason) return std::nullopt;
  const double well = std::min(seen.score, (limits.least_score + seen.score) / 2);
  double sum = 0;
  for (const auto& [contrast, share] : edge_and_share)
    if ((sum += share) >= well) return ContrastWanted{contrast, seen.score};
  return ContrastWanted{faintest, seen.score};
}

}  // namespace heron
