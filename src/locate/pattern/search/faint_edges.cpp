#include "faint_edges.hpp"

#include <algorithm>

#include "pattern_search.hpp"

namespace heron {

void weigh_faint_edges(Candidate& c, const FindOptions& options, const PatternModel& target,
                       const PreparedPicture& prepared) {
  // What lies on a part is no weak edge of it, nor is its noise.
  const double noise = c.score < options.min_score ? 3 * prepared.noise_sigma(0) : 0;
  const double faintest = std::min(std::max(weakest_contrast, noise), options.min_contrast);
  const EdgeColumns& edges = target.centred().columns()[0];
  const Point2 middle = c.pose * target.to_centred();
  std::vector<float> contrasts;
  const SeenEdges seen = see_edges(prepared.level(0), edges, {middle.x, middle.y, c.pose.angle, c.pose.scale},
                                   faintest, c.rise, &contrasts);
  std::vector<std::pair<double, double>> contrast_and_share;
  double strong = 0;
  for (size_t i = 0; i < edges.count; ++i) {
    if (!(seen.weights[i] > 0)) continue;
    const double share = 100.0 * seen.weights[i] / static_cast<double>(edges.count);
    contrast_and_share.emplace_back(contrasts[i], share);
    if (contrasts[i] >= options.min_contrast) strong += share;
  }
  const bool weigh_most = seen.score - strong > 100 - seen.score;
  if (strong >= options.min_score || !weigh_most) {
    c.score = std::min(c.score, strong);
    return;
  }
  // The few weakest edges of all would ask for a limit that is as good as none.
  const bool enough = seen.score >= options.min_score;
  const double well = enough ? (options.min_score + seen.score) / 2 : 0.95 * seen.score;
  std::sort(contrast_and_share.rbegin(), contrast_and_share.rend());
  double sum = 0;
  for (const auto& [contrast, share] : contrast_and_share) {
    sum += share, c.contrast_wanted = contrast;
    if (sum >= well) break;
  }
  c.score = enough ? seen.score : sum;
}

}  // namespace heron
