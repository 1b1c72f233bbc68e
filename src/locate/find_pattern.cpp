#include <fmt/format.h>

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
  double least_score;
};

/// A candidate is given up when its score on a level falls below this share of the least score: a coarse
/// level sees less of a covered part than a fine one.
double stage_share(int level, int top) { return level == 0 ? 0.5 : level == top ? 0.6 : 0.65; }

/// What candidates are fitted by on one level.
struct Stage {
  const Image<uint8_t>& picture;
  const std::vector<TaughtEdge>& edges;
  EdgeFitSearch search;
  double least_score;
};

Stage stage_of(const PatternTarget& target, const Survey& survey, int level, const Reach& reach) {
  const int top = coarse_level(target);
  const std::vector<TaughtEdge>& edges =
      level == top ? target.coarse_edges() : target.levels()[static_cast<size_t>(level)];
  EdgeFitSearch search{.level = level,
                       .reach = 3,
                       .least_contrast = reach.least_contrast,
                       .free_angle = target.has_angle(),
                       .free_scale = reach.scale.max > reach.scale.min,
                       .rounds = level == 0 ? 3 : 2};
  if (level > 0) search.least_contrast = std::max(3.0, 0.5 * reach.least_contrast);
  return {survey.level(level), edges, search, stage_share(level, top) * reach.least_score};
}

std::vector<Candidate> fitted(const std::vector<Candidate>& starts, const Stage& stage) {
  std::vector<Candidate> results(starts.size());
  parallel_rows(static_cast<int>(starts.size()), 8, [&](int first, int end) {
    for (auto i = static_cast<size_t>(first); i < static_cast<size_t>(end); ++i) {
      const EdgeFit fit = fit_edges(stage.picture, stage.edges, starts[i].pose, stage.search);
      if (fit.fitted) results[i] = {fit.pose, fit.score, fit.contrast, fit.sigma};
    }
  });
  std::erase_if(results, [&](const Candidate& c) { return c.score <= 0 || c.score < stage.least_score; });
  std::stable_sort(results.begin(), results.end(),
                   [](const Candidate& a, const Candidate& b) { return a.score > b.score; });
  return results;
}

/// Fits that ran into the same pose are one; the best of them comes first already.
std::vector<Candidate> distinct(const std::vector<Candidate>& candidates, double pixels, double radius) {
  std::vector<Candidate> kept;
  for (const Candidate& c : candidates) {
    const bool known = std::any_of(kept.begin(), kept.end(), [&](const Candidate& k) {
      return distance(c.pose.position(), k.pose.position()) < pixels &&
             std::abs((c.pose.angle - k.pose.angle).wrapped().radians()) * radius < pixels &&
             std::abs(c.pose.scale - k.pose.scale) * radius < pixels;
    });
    if (!known) kept.push_back(c);
  }
  return kept;
}

std::vector<Candidate> candidates_of(const PatternTarget& target, const Survey& survey,
                                     const FindLimits& limits, const Reach& reach) {
  CoarseSearch search{.angle = reach.angle,
                      .scale = reach.scale,
                      .origins = {0, 0, survey.width() - 1.0, survey.height() - 1.0}};
  if (!limits.region.empty()) search.origins = limits.region.bounds();
  search.least_contrast = reach.least_contrast;
  // On the coarse level a part that is 40% covered still answers well, with help from its surroundings.
  search.least_likeness = std::clamp(0.009 * reach.least_score, 0.42, 0.7);
  std::vector<Candidate> candidates;
  for (const CoarseHit& hit : coarse_search(target, survey, search))
    candidates.push_back({{hit.place.x, hit.place.y, hit.angle, hit.scale}});
  const double radius = 0.5 * std::hypot(target.extent().width, target.extent().height);
  for (int level = coarse_level(target); level >= 0 && !candidates.empty(); --level)
    candidates = distinct(fitted(candidates, stage_of(target, survey, level, reach)),
                          0.7 * std::ldexp(1.0, level), radius);
  return candidates;
}

Reach beyond(const FindLimits& limits) {
  return {full_turn,
          {std::min(limits.scale.min, 0.7), std::max(limits.scale.max, 1.4)},
          std::min(limits.least_contrast, 3.0),
          0.6 * limits.least_score};
}

}  // namespace

Findings find(const PatternTarget& target, const Survey& survey, const FindLimits& limits, Explain explain) {
  require_valid(limits);
  const Reach asked{limits.angle, limits.scale, limits.least_contrast, limits.least_score};
  Findings findings = judged(target, survey, candidates_of(target, survey, limits, asked), limits);
  if (explain == Explain::always || (explain == Explain::when_nothing && findings.sightings.empty())) {
    const Findings wider =
        judged(target, survey, candidates_of(target, survey, limits, beyond(limits)), limits);
    add_misses(findings, wider.misses);
  }
  return findings;
}

Findings find(const PatternTarget& target, const Survey& survey) {
  return find(target, survey, target.settings().limits);
}

void require_valid(const FindLimits& limits) {
  require_ordered(limits.angle, "angle");
  require_ordered(limits.scale, "scale");
  if (limits.scale.min < 0.1 || limits.scale.max > 10)
    fail_argument(fmt::format("scale {}..{} must lie within 0.1..10", limits.scale.min, limits.scale.max));
  if (!(limits.least_score >= 0 && limits.least_score <= 100))
    fail_argument(fmt::format("least score {} must be from 0 to 100", limits.least_score));
  if (!(limits.least_contrast >= 1 && limits.least_contrast <= 255))
    fail_argument(fmt::format("least contrast {} must be from 1 to 255 grey levels", limits.least_contrast));
  if (limits.count < 0) fail_argument(fmt::format("count {} must be 0 (all) or more", limits.count));
  if (!(limits.most_overlap >= 0 && limits.most_overlap <= 1))
    fail_argument(fmt::format("most overlap {} must be from 0 to 1", limits.most_overlap));
}

}  // namespace heron
