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
  Box origins;
  bool names_nearest = false;  ///< when all candidates are given up, the best of them is told all the same
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
  std::erase_if(results, [](const Candidate& c) { return c.score <= 0; });
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

/// What resembled the part most before everything was given up, with the score that it has in the full
/// picture.
Candidate nearest_of(const Candidate& best, const PatternTarget& target, const Survey& survey,
                     double least_contrast) {
  const std::vector<EdgeMatch> edges =
      match_edges(survey.level(0), target.levels()[0], best.pose, 2, least_contrast);
  double sum = 0;
  for (const EdgeMatch& e : edges) sum += static_cast<double>(e.weight);
  Candidate nearest = best;
  nearest.score = 100 * sum / static_cast<double>(edges.size());
  return nearest;
}

std::vector<Candidate> candidates_of(const PatternTarget& target, const Survey& survey, const Reach& reach) {
  CoarseSearch search{.angle = reach.angle, .scale = reach.scale, .origins = reach.origins};
  search.least_contrast = reach.least_contrast;
  // On the coarse level a part that is 40% covered still answers well, with help from its surroundings.
  search.least_likeness = std::clamp(0.009 * reach.least_score, 0.42, 0.7);
  std::vector<Candidate> candidates;
  for (const CoarseHit& hit : coarse_search(target, survey, search))
    candidates.push_back({{hit.place.x, hit.place.y, hit.angle, hit.scale}});
  const double radius = 0.5 * std::hypot(target.extent().width, target.extent().height);
  for (int level = coarse_level(target); level >= 0 && !candidates.empty(); --level) {
    const Stage stage = stage_of(target, survey, level, reach);
    std::vector<Candidate> all = fitted(candidates, stage);
    const auto good =
        std::find_if(all.begin(), all.end(), [&](const Candidate& c) { return c.score < stage.least_score; });
    if (good == all.begin() && !all.empty() && reach.names_nearest)
      return {nearest_of(all.front(), target, survey, reach.least_contrast)};
    all.erase(good, all.end());
    candidates = distinct(all, 0.7 * std::ldexp(1.0, level), radius);
  }
  return candidates;
}

Box whole(const Survey& survey) { return {0, 0, survey.width() - 1.0, survey.height() - 1.0}; }

Reach asked(const FindLimits& limits, const Survey& survey) {
  return {limits.angle, limits.scale, limits.least_contrast, limits.least_score,
          limits.region.empty() ? whole(survey) : limits.region.bounds()};
}

Reach beyond(const FindLimits& limits, const Survey& survey) {
  return {full_turn,
          {std::min(limits.scale.min, 0.7), std::max(limits.scale.max, 1.4)},
          std::min(limits.least_contrast, 3.0),
          0.6 * limits.least_score,
          whole(survey),
          true};
}

/// A free scale wanders a little: where the part fits as well at the nearest scale allowed, scale is not the
/// reason.
Candidate confined(const Candidate& c, const PatternTarget& target, const Survey& survey,
                   const FindLimits& limits) {
  if (limits.scale.contains(c.pose.scale)) return c;
  Similarity2 start = c.pose;
  start.scale = std::clamp(start.scale, limits.scale.min, limits.scale.max);
  const EdgeFitSearch search{
      .level = 0, .reach = 3, .least_contrast = 3, .free_angle = target.has_angle(), .free_scale = false};
  const EdgeFit fit = fit_edges(survey.level(0), target.levels()[0], start, search);
  if (!fit.fitted || fit.score < 0.9 * c.score) return c;
  return {fit.pose, fit.score, fit.contrast, fit.sigma};
}

/// The search beyond the limits, for the reasons alone.
std::vector<Miss> reasons_beyond(const PatternTarget& target, const Survey& survey,
                                 const FindLimits& limits) {
  std::vector<Candidate> candidates = candidates_of(target, survey, beyond(limits, survey));
  for (Candidate& c : candidates) c = confined(c, target, survey, limits);
  return judged(target, survey, std::move(candidates), limits).misses;
}

}  // namespace

Findings find(const PatternTarget& target, const Survey& survey, const FindLimits& limits, Explain explain) {
  require_valid(limits);
  Findings findings = judged(target, survey, candidates_of(target, survey, asked(limits, survey)), limits);
  if (explain == Explain::always || (explain == Explain::when_nothing && findings.sightings.empty()))
    add_misses(findings, reasons_beyond(target, survey, limits));
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
