#include "descent.hpp"

#include <algorithm>

#include "refine.hpp"

namespace heron {
namespace {

/// What half as fine a picture shows as well as this needs but one round with the few edges of the full one,
/// and on the way there every other level.
constexpr double seen_well = 80;

const EdgeColumns& edges_on(const PatternSearch& search, int level) {
  const int taught = search.taught_level(level);
  return level == search.coarse_level() ? search.coarse().columns
         : taught == 0                  ? search.target.few_columns()
                                        : search.target.columns()[static_cast<size_t>(taught)];
}

bool same(const Candidate& a, const Candidate& b) {
  return a.pose.x == b.pose.x && a.pose.y == b.pose.y && a.pose.angle == b.pose.angle &&
         a.pose.scale == b.pose.scale && a.score == b.score;
}

}  // namespace

double stage_limit(const PatternSearch& search, int level) {
  const double share = level == 0 ? 0.75 : level == search.coarse_level() ? 0.67 : 0.7;
  return (share + 0.1 * (1 - 2 * search.reach.effort)) * std::min(search.reach.min_score, 60.0);
}

LevelFit::LevelFit(const PatternSearch& search, int level)
    : search_(search), level_(level), edges_(edges_on(search, level)), edge_(edge_search(search, level)) {
  // Edges that are not near at the start will hardly be in place at the end.
  edge_.min_met = (1.1 - 0.2 * search.reach.effort) * stage_limit(search, level);
  edge_.min_begun = (0.7 - 0.2 * search.reach.effort) * stage_limit(search, level);
  edge_.tells_sigma = search.reach.names_nearest;  // of what may be told as it is now
}

Candidate LevelFit::of(const Candidate& start) const {
  EdgeFitSearch edge = edge_;
  const int below_top = search_.coarse_level() - level_;
  if (below_top > 0 && start.score >= seen_well) {
    if (level_ > 1 && below_top % 2 == 1) return start;
    if (level_ == 0) edge.rounds = 1;
  }
  const EdgeFit fit = fit_edges(search_.prepared.level(level_), edges_, start.pose, edge);
  // What has run far out of the range is nothing there.
  if (!fit.fitted || fit.pose.scale < 0.85 * search_.reach.scale.min ||
      fit.pose.scale > 1.18 * search_.reach.scale.max)
    return {};
  return {.pose = fit.pose, .score = fit.score, .sigma = fit.sigma, .rise = edge.rise};
}

SpeculativeRefinement::SpeculativeRefinement(const PatternSearch& search) : search_(search) {}

void SpeculativeRefinement::begin(const Candidate& fit) {
  Stages& stages = carried_.emplace_back(Stages{fit});
  errands_.begin([this, &stages] { carry_down(stages); });
}

void SpeculativeRefinement::carry_down(Stages& stages) const {
  for (int level = search_.coarse_level() - 1; level >= 0; --level) {
    if (search_.stopped()) return;
    stages.push_back(LevelFit(search_, level).of(stages.back()));
    if (stages.back().score < stage_limit(search_, level)) return;
  }
  stages.push_back(heron::finished(stages.back(), search_));
}

void SpeculativeRefinement::wait() { errands_.wait(); }

const Candidate* SpeculativeRefinement::fitted(const Candidate& start, int level) const {
  const int top = search_.coarse_level();
  if (level >= top) return nullptr;
  const auto stage = static_cast<size_t>(top - level);
  for (const Stages& stages : carried_)
    if (stage < stages.size() && same(stages[stage - 1], start)) return &stages[stage];
  return nullptr;
}

}  // namespace heron
