#include <fmt/format.h>

#include <optional>

#include "coarse_search.hpp"
#include "edge_fit.hpp"
#include "heron/image/parallel.hpp"
#include "judge.hpp"
#include "limits.hpp"

namespace heron {
namespace {

/// Limits to search by, wider than those to judge by when a reason is wanted.
struct Reach {
  Range<Angle> angle;
  Range<double> scale;
  double least_contrast;
};

/// A candidate is given up when its score at a level falls below this share of the least score: coarse levels see less.
double stage_share(int levels_to_go) { return levels_to_go == 0 ? 0.5 : std::max(0.45, 0.7 - 0.1 * levels_to_go); }

std::optional<Candidate> refined(const PatternTarget& target, const Survey& survey, const CoarseHit& hit, const Reach& reach, double least_score) {
  const int top = coarse_level(target);
  Similarity2 pose{hit.place.x, hit.place.y, hit.angle, hit.scale};
  EdgeFit fit;
  for (int level = top; level >= 0; --level) {
    const bool last = level == 0;
    const std::vector<TaughtEdge>& edges = level == top ? target.coarse_edges() : target.levels()[static_cast<size_t>(level)];
    EdgeFitSearch search{.level = level, .reach = 3, .free_angle = target.has_angle(), .free_scale = reach.scale.max > reach.scale.min, .rounds = last ? 4 : 3};
    search.least_contrast = last ? reach.least_contrast : std::max(3.0, 0.5 * reach.least_contrast);
    fit = fit_edges(survey.level(level), edges, pose, search);
    if (!fit.fitted || fit.score < stage_share(level) * least_score) return std::nullopt;
    pose = fit.pose;
  }
  return Candidate{fit.pose, fit.score, fit.contrast, fit.sigma};
}

std::vector<Candidate> candidates_of(const PatternTarget& target, const Survey& survey, const FindLimits& limits, const Reach& reach) {
  CoarseSearch search{.angle = reach.angle, .scale = reach.scale, .origins = {0, 0, survey.width() - 1.0, survey.height() - 1.0}};
  if (!limits.region.empty()) search.origins = limits.region.bounds();
  search.least_contrast = reach.least_contrast;
  // On the coarse level a part that is 40% covered still answers well, with help from its surroundings.
  search.least_likeness = std::clamp(0.009 * limits.least_score, 0.42, 0.7);
  const std::vector<CoarseHit> hits = coarse_search(target, survey, search);

  std::vector<std::optional<Candidate>> by_hit(hits.size());
  parallel_rows(static_cast<int>(hits.size()), 8, [&](int first, int end) {
    for (int i = first; i < end; ++i) by_hit[static_cast<size_t>(i)] = refined(target, survey, hits[static_cast<size_t>(i)], reach, limits.least_score);
  });
  std::vector<Candidate> candidates;
  for (const auto& c : by_hit)
    if (c) candidates.push_back(*c);
  return candidates;
}

Reach beyond(const FindLimits& limits) {
  return {full_turn, {std::min(limits.scale.min, 0.7), std::max(limits.scale.max, 1.4)}, std::min(limits.least_contrast, 3.0)};
}

}  // namespace

Findings find(const PatternTarget& target, const Survey& survey, const FindLimits& limits, Explain explain) {
  require_valid(limits);
  const Reach asked{limits.angle, limits.scale, limits.least_contrast};
  Findings findings = judged(target, survey, candidates_of(target, survey, limits, asked), limits);
  if (explain == Explain::always || (explain == Explain::when_nothing && findings.sightings.empty())) {
    const Findings wider = judged(target, survey, candidates_of(target, survey, limits, beyond(limits)), limits);
    add_misses(findings, wider.misses);
  }
  return findings;
}

Findings find(const PatternTarget& target, const Survey& survey) { return find(target, survey, target.settings().limits); }

void require_valid(const FindLimits& limits) {
  require_ordered(limits.angle, "angle");
  require_ordered(limits.scale, "scale");
  if (limits.scale.min < 0.1 || limits.scale.max > 10)
    fail_argument(fmt::format("scale {}..{} must lie within 0.1..10", limits.scale.min, limits.scale.max));
  if (!(limits.least_score >= 0 && limits.least_score <= 100)) fail_argument(fmt::format("least score {} must be from 0 to 100", limits.least_score));
  if (!(limits.least_contrast >= 1 && limits.least_contrast <= 255))
    fail_argument(fmt::format("least contrast {} must be from 1 to 255 grey levels", limits.least_contrast));
  if (limits.count < 0) fail_argument(fmt::format("count {} must be 0 (all) or more", limits.count));
  if (!(limits.most_overlap >= 0 && limits.most_overlap <= 1)) fail_argument(fmt::format("most overlap {} must be from 0 to 1", limits.most_overlap));
}

}  // namespace heron
