#include <fmt/format.h>

#include <optional>

#include "coarse_search.hpp"
#include "echoes.hpp"
#include "edge_fit.hpp"
#include "grey_model.hpp"
#include "heron/base/work.hpp"
#include "heron/image/parallel.hpp"
#include "judge.hpp"
#include "limits.hpp"
#include "part_size.hpp"

namespace heron {
namespace {

/// Limits to search by, wider than those to judge by when a reason is wanted.
struct Reach {
  Range<Angle> angle;
  Range<double> scale;
  double least_contrast;
  double least_score;
  Polarity polarity;
  double effort;
  double most_overlap;
  Box origins;
  bool names_nearest = false;  ///< when all candidates are given up, the best of them is told all the same
};

/// Everything that one search reads.
struct Search {
  const PatternTarget& target;
  const Survey& survey;
  Reach reach;
  Work* work;

  bool stopped() const { return work && work->stopped(); }
  const CoarseEdges& coarse() const { return target.coarse(reach.polarity); }
  bool free_angle() const { return target.has_angle() && reach.angle.max > reach.angle.min; }
  bool free_scale() const { return reach.scale.max > reach.scale.min; }
};

/// A candidate is given up when its score on a level falls below this: a share of the least score, since a
/// coarse level sees less of a covered part than a fine one, and no more of a high limit, which a part may
/// miss by little. More effort gives up later.
double stage_limit(const Search& search, int level) {
  const double share = level == 0 ? 0.75 : level == search.coarse().level ? 0.67 : 0.7;
  return (share + 0.1 * (1 - 2 * search.reach.effort)) * std::min(search.reach.least_score, 60.0);
}

Rise rise_of(Polarity polarity) {
  return polarity == Polarity::per_edge   ? Rise::either
         : polarity == Polarity::inverted ? Rise::down
                                          : Rise::up;
}

/// What candidates are fitted by on one level.
EdgeFitSearch edge_search(const Search& search, int level) {
  EdgeFitSearch e{.level = level,
                  .reach = 3,
                  .least_contrast = search.reach.least_contrast,
                  .rise = rise_of(search.reach.polarity),
                  .free_angle = search.free_angle(),
                  .free_scale = search.free_scale(),
                  .rounds = 2};
  if (level > 0) e.least_contrast = std::max(3.0, 0.5 * search.reach.least_contrast);
  return e;
}

Candidate start_of(const CoarseHit& hit) {
  return {.pose = {hit.place.x, hit.place.y, hit.angle, hit.scale}, .score = 100 * hit.likeness};
}

/// What half as fine a picture shows as well as this needs but one round with the few edges of the full one.
constexpr double seen_well = 80;

bool better(const Candidate& a, const Candidate& b) { return a.score > b.score; }

std::vector<Candidate> fitted(const std::vector<Candidate>& starts, const Search& search, int level) {
  const PatternTarget& target = search.target;
  const EdgeColumns& edges = level == search.coarse().level ? search.coarse().columns
                             : level == 0                   ? target.few_columns()
                                                            : target.columns()[static_cast<size_t>(level)];
  EdgeFitSearch edge = edge_search(search, level);
  // Edges that are not near at the start will hardly be in place at the end.
  edge.least_met = (1.1 - 0.2 * search.reach.effort) * stage_limit(search, level);
  edge.least_begun = (0.7 - 0.2 * search.reach.effort) * stage_limit(search, level);
  edge.tells_sigma = search.reach.names_nearest;  // of what may be told as it is now
  std::vector<Candidate> results(starts.size());
  if (search.work) search.work->plan(static_cast<int64_t>(starts.size()));
  const int count = static_cast<int>(starts.size());
  parallel_rows(count, std::clamp(count / 16, 1, 8), [&](int first, int end) {
    if (search.stopped()) return;
    if (search.work) search.work->advance(end - first);
    for (auto i = static_cast<size_t>(first); i < static_cast<size_t>(end); ++i) {
      EdgeFitSearch its = edge;
      if (level == 0 && level < search.coarse().level && starts[i].score >= seen_well) its.rounds = 1;
      const EdgeFit fit = fit_edges(search.survey.level(level), edges, starts[i].pose, its);
      if (fit.fitted)
        results[i] = {.pose = fit.pose, .score = fit.score, .sigma = fit.sigma, .rise = edge.rise};
    }
  });
  // What has run far out of the range is nothing there.
  std::erase_if(results, [&](const Candidate& c) {
    return c.score <= 0 || c.pose.scale < 0.85 * search.reach.scale.min ||
           c.pose.scale > 1.18 * search.reach.scale.max;
  });
  std::stable_sort(results.begin(), results.end(), better);
  return results;
}

/// The candidates that no part known so far explains.
std::vector<Candidate> unexplained(std::vector<Candidate> starts, const Echoes& echoes) {
  std::vector<uint8_t> explained(starts.size());
  parallel_rows(static_cast<int>(starts.size()), 16, [&](int first, int end) {
    for (auto i = static_cast<size_t>(first); i < static_cast<size_t>(end); ++i)
      explained[i] = echoes.is_explained(starts[i]);
  });
  std::vector<Candidate> left;
  for (size_t i = 0; i < starts.size(); ++i)
    if (!explained[i]) left.push_back(std::move(starts[i]));
  return left;
}

/// Hits to be fitted together: first those that lie over no better one, then the others that those do not
/// explain.
struct Starts {
  std::vector<Candidate> leaders, others;
  size_t size() const { return leaders.size() + others.size(); }
};

/// `most` hits that no part known so far explains, or what is left of them.
Starts next_starts(CoarseHits& hits, const Echoes& echoes, size_t most) {
  Starts starts;
  while (starts.others.size() < most) {
    const std::vector<CoarseHit> next = hits.next(most - starts.others.size());
    if (next.empty()) break;
    std::vector<Candidate> more;
    std::transform(next.begin(), next.end(), std::back_inserter(more), start_of);
    for (Candidate& c : unexplained(std::move(more), echoes)) starts.others.push_back(std::move(c));
  }
  starts.leaders = echoes.take_leaders(starts.others);
  return starts;
}

/// The hits of the coarse search, fitted, some dozens at a time; while one thread takes the next of them, the
/// others fit. What is explained does not count towards how many are fitted: parts that are seen whole must
/// not keep others from being looked at.
std::vector<Candidate> fitted_hits(CoarseHits& hits, const Search& search, Echoes& echoes) {
  const int level = search.coarse().level;
  constexpr size_t enough = 16,  // fewer are not gone on for
      at_first = 32,  // tell of most whole parts, and those of most other hits that they are echoes
      at_once = 64;
  // 64, 256, 1024; on the finer level of edges that may rise or fall everything answers in more poses.
  const int least_looks = search.reach.polarity == Polarity::per_edge ? 128 : 64;
  auto left = static_cast<size_t>(least_looks * std::pow(16.0, search.reach.effort));
  std::vector<Candidate> fits;
  const auto add = [&](std::vector<Candidate> more) {
    for (const Candidate& fit : more)
      if (const auto whole = echoes.learn(fit)) hits.ask_for(whole->echo / 100, whole->middle, whole->sure);
    const auto middle = static_cast<ptrdiff_t>(fits.size());
    fits.insert(fits.end(), std::move_iterator(more.begin()), std::move_iterator(more.end()));
    std::inplace_merge(fits.begin(), fits.begin() + middle, fits.end(), better);
  };
  Starts starts = next_starts(hits, echoes, std::min(left, at_first));
  while (starts.size() > 0 && !search.stopped()) {
    add(fitted(starts.leaders, search, level));
    starts.others = unexplained(std::move(starts.others), echoes);
    left -= std::min(left, starts.size());
    Starts next;
    std::vector<Candidate> more;
    parallel_pair([&] { more = fitted(starts.others, search, level); },
                  [&] {
                    if (left >= enough) next = next_starts(hits, echoes, std::min(left, at_once));
                  });
    add(std::move(more));
    starts = {unexplained(std::move(next.leaders), echoes), unexplained(std::move(next.others), echoes)};
    // What was taken meanwhile may be explained by now to the last; there may be more.
    if (starts.size() == 0 && left >= enough) starts = next_starts(hits, echoes, std::min(left, at_once));
  }
  return fits;
}

void take_seen(Candidate& c, SeenEdges seen, const Search& search) {
  c.score = seen.score, c.contrast = seen.contrast;
  c.seen = std::make_shared<const SeenEdges>(std::move(seen));
  c.outside = share_outside(search.survey.level(0), search.target.columns()[0], c.pose);
}

/// Score, contrast and edges of a candidate at its pose in the full picture, over all edges.
void see(Candidate& c, const Search& search) {
  const EdgeColumns& edges = search.target.columns()[0];
  take_seen(c, see_edges(search.survey.level(0), edges, c.pose, search.reach.least_contrast, c.rise), search);
}

/// Of the poses in which a part with a symmetry looks the same: the one whose angle lies nearest to the
/// middle of the range, to 0 when that is a full turn.
Similarity2 told_pose(const Similarity2& pose, const PatternTarget& target, const Range<Angle>& range) {
  if (target.symmetry() < 2) return pose;
  const double period = 2 * std::numbers::pi / target.symmetry();
  const double width = range.max.radians() - range.min.radians();
  const double middle = width < 2 * std::numbers::pi - 1e-9 ? range.min.radians() + width / 2 : 0;
  const double angle = middle + std::remainder(pose.angle.radians() - middle, period);
  Similarity2 told = pose;
  told.angle = radians(angle).wrapped();
  const Point2 centre = pose * target.symmetry_centre();
  const Point2 origin = centre - rotated(target.symmetry_centre(), told.angle) * pose.scale;
  told.x = origin.x, told.y = origin.y;
  return told;
}

/// All edges, `edge.rounds` times, then the score, then the grey values where it comes to `least_score`.
/// False when the edges cannot be fitted; the candidate is then seen where it stands.
bool refine(Candidate& c, const EdgeFitSearch& edge, double least_score, const Search& search) {
  const Image<uint8_t>& picture = search.survey.level(0);
  const PatternTarget& target = search.target;
  const auto settle = [&](const Similarity2& pose, PoseSigma sigma) {
    if (!target.has_angle()) sigma.angle = degrees(180);
    c.pose = pose, c.sigma = sigma;
  };
  SeenEdges seen;
  const EdgeFit fit = fit_edges(picture, target.columns()[0], c.pose, edge, &seen);
  if (fit.fitted) settle(fit.pose, fit.sigma);
  if (fit.fitted)
    take_seen(c, std::move(seen), search);
  else
    see(c, search);
  if (search.reach.polarity == Polarity::per_edge || c.score < least_score) return fit.fitted;
  GreySearch by_grey{edge.free_angle, edge.free_scale, search.survey.noise_sigma(0)};
  if (fit.fitted) by_grey.edges = fit.sigma;
  const GreyFit grey = fit_greys(picture, *target.greys(), c.seen->weights, c.pose, by_grey);
  if (!grey.fitted) return fit.fitted;
  const double moved = distance(grey.pose.position(), c.pose.position());
  settle(grey.pose, grey.sigma);
  if (moved > 0.05) see(c, search);
  return fit.fitted;
}

/// The last steps of a candidate that has come through all levels.
Candidate finished(Candidate c, const Search& search) {
  EdgeFitSearch edge = edge_search(search, 0);
  edge.rounds = 1, edge.reach = 2;  // the fit before has brought it near; no farther off does an edge count
  c.pose = told_pose(c.pose, search.target, search.reach.angle);
  refine(c, edge, search.reach.least_score, search);
  return c;
}

std::vector<Candidate> all_finished(const std::vector<Candidate>& starts, const Search& search) {
  std::vector<Candidate> results(starts.size());
  parallel_rows(static_cast<int>(starts.size()), 1, [&](int first, int end) {
    for (auto i = static_cast<size_t>(first); i < static_cast<size_t>(end) && !search.stopped(); ++i)
      results[i] = finished(starts[i], search);
  });
  std::erase_if(results, [](const Candidate& c) { return !c.seen; });
  return results;
}

/// The candidates of one way for brightness to change.
std::vector<Candidate> candidates_alike(const Search& search) {
  const PatternTarget& target = search.target;
  const Reach& reach = search.reach;
  Range<Angle> angles = reach.angle;
  if (const double period = 360.0 / target.symmetry(); (angles.max - angles.min).degrees() > period)
    angles.max = angles.min + degrees(period);
  CoarseSearch coarse{.angle = angles, .scale = reach.scale, .origins = reach.origins};
  coarse.least_contrast = reach.least_contrast;
  coarse.polarity = reach.polarity, coarse.effort = reach.effort;
  // On the coarse level a part that is 40% covered still answers well, with help from its surroundings.
  coarse.least_likeness = std::clamp(0.0096 * reach.least_score, 0.42, 0.52) + 0.06 * (1 - 2 * reach.effort);
  CoarseHits hits = coarse_search(target, search.survey, coarse, search.work);
  Echoes echoes(target, {reach.scale, reach.effort, reach.most_overlap});
  const int top = search.coarse().level;
  std::vector<Candidate> candidates;
  for (int level = top; level >= 0; --level) {
    const double least = stage_limit(search, level);
    std::vector<Candidate> all =
        level == top ? fitted_hits(hits, search, echoes) : fitted(candidates, search, level);
    const auto good =
        std::find_if(all.begin(), all.end(), [&](const Candidate& c) { return c.score < least; });
    if (good == all.begin() && !all.empty() && reach.names_nearest) {
      // What resembled the part most, with the score that it has in the full picture.
      see(all.front(), search);
      return {all.front()};
    }
    all.erase(good, all.end());
    candidates = echoes.distinct(std::move(all), level);
  }
  return all_finished(candidates, search);
}

/// A part of either polarity is as taught or inverted as a whole: two searches. One for edges of both signs,
/// each by itself, would meet far more that is nothing.
std::vector<Candidate> candidates_of(const Search& search) {
  if (search.reach.polarity != Polarity::either) return candidates_alike(search);
  Search each = search;
  each.reach.polarity = Polarity::as_taught;
  std::vector<Candidate> candidates = candidates_alike(each);
  each.reach.polarity = Polarity::inverted;
  for (Candidate& c : candidates_alike(each)) candidates.push_back(std::move(c));
  return candidates;
}

Box whole(const Survey& survey) { return {0, 0, survey.width() - 1.0, survey.height() - 1.0}; }

Reach asked(const FindLimits& limits, const Survey& survey) {
  return {limits.angle,          limits.scale,
          limits.least_contrast, limits.least_score,
          limits.polarity,       limits.effort,
          limits.most_overlap,   limits.region.empty() ? whole(survey) : limits.region.bounds()};
}

Reach beyond(const FindLimits& limits, const Survey& survey) {
  return {full_turn,
          {std::min(limits.scale.min, 0.7), std::max(limits.scale.max, 1.4)},
          std::min(limits.least_contrast, 3.0),
          0.6 * limits.least_score,
          limits.polarity,
          limits.effort,
          limits.most_overlap,
          whole(survey),
          true};
}

/// The end of the range that is nearest to an angle outside it.
Angle nearest_end(const Range<Angle>& range, Angle angle) {
  return abs((angle - range.min).wrapped()) < abs((angle - range.max).wrapped()) ? range.min : range.max;
}

/// `c` with angle or scale, or both, held where they now are, fitted and seen anew; nothing when that does
/// not come to `least_score`.
std::optional<Candidate> held_at(Candidate c, bool hold_angle, bool hold_scale, double least_score,
                                 const Search& search) {
  EdgeFitSearch edge = edge_search(search, 0);
  edge.rise = c.rise, edge.rounds = 3;
  edge.free_angle = edge.free_angle && !hold_angle, edge.free_scale = edge.free_scale && !hold_scale;
  const PoseSigma before = c.sigma;
  if (!refine(c, edge, least_score, search) || c.score < least_score) return std::nullopt;
  // What is held cannot tell how well it is known.
  if (!edge.free_angle) c.sigma.angle = before.angle;
  if (!edge.free_scale) c.sigma.scale = before.scale;
  return c;
}

/// A candidate that fits best beyond a range is held at the range's end. Where it fits well there too, it
/// stands at that end, flagged; else it stays where it is, for a miss that says so. A scale that was free
/// only for the sake of a reason is held first: where the part fits as well, scale is not the reason.
Candidate confined(Candidate c, const Search& search, const FindLimits& limits) {
  const PatternTarget& target = search.target;
  const Candidate free = c;
  // Farther off, no edge would be met again.
  const double radius = half_diagonal(target), far = 6;
  const double scale = std::clamp(c.pose.scale, limits.scale.min, limits.scale.max);
  const bool scaled = scale != c.pose.scale;
  const auto flagged = [&](Candidate held, const char* name, bool is_range) {
    if (!is_range) return held;
    held.range_end.push_back(name);
    held.beyond = BeyondRange{free.pose.angle, free.pose.scale, free.score};
    return held;
  };
  if (scaled && radius * std::abs(std::log(scale / c.pose.scale)) < far) {
    Candidate there = c;
    there.pose.scale = scale;
    const bool is_range = limits.scale.max > limits.scale.min;
    if (const auto held = held_at(there, false, true, is_range ? limits.least_score : 0.9 * c.score, search))
      c = flagged(*held, "scale", is_range);
  }
  if (!target.has_angle() || contains_turned(limits.angle, c.pose.angle)) return c;
  Candidate there = c;
  there.pose.angle = nearest_end(limits.angle, c.pose.angle).wrapped();
  if (radius * std::abs((there.pose.angle - c.pose.angle).wrapped().radians()) > far) return c;
  const bool held_scale = scaled && c.pose.scale == scale;
  if (const auto held = held_at(there, true, held_scale, limits.least_score, search))
    return flagged(*held, "angle", limits.angle.max > limits.angle.min);
  return c;
}

std::vector<Candidate> confined(std::vector<Candidate> candidates, const Search& search,
                                const FindLimits& limits) {
  for (Candidate& c : candidates) c = confined(c, search, limits);
  return candidates;
}

/// The search beyond the limits, for the reasons alone; with the brightness turned round when nothing else
/// comes near.
std::vector<Miss> reasons_beyond(const PatternTarget& target, const Survey& survey, const FindLimits& limits,
                                 Work* work) {
  Search wider{target, survey, beyond(limits, survey), work};
  const auto look = [&] {
    return judged(target, survey, confined(candidates_of(wider), wider, limits), limits).misses;
  };
  std::vector<Miss> reasons = look();
  const bool explained = !reasons.empty() && reasons[0].score >= 0.8 * limits.least_score;
  if (explained || limits.polarity == Polarity::either || limits.polarity == Polarity::per_edge)
    return reasons;
  wider.reach.polarity = limits.polarity == Polarity::inverted ? Polarity::as_taught : Polarity::inverted;
  std::vector<Miss> turned = look();
  const bool nearer = !turned.empty() && (reasons.empty() || turned[0].score > reasons[0].score);
  return nearer ? turned : reasons;
}

/// The limits with their contrast in grey levels, for a target of which one level stands for `unit`.
FindLimits in_grey_levels(FindLimits limits, double unit) {
  limits.least_contrast /= unit;
  return limits;
}

}  // namespace

Findings find(const PatternTarget& target, const Survey& survey, const FindLimits& given, Explain explain,
              Work* work) {
  const double unit = target.grey_unit();
  require_valid(given, unit);
  const FindLimits limits = in_grey_levels(given, unit);
  const Search search{target, survey, asked(limits, survey), work};
  Findings findings = judged(target, survey, confined(candidates_of(search), search, limits), limits);
  if (explain == Explain::always || (explain == Explain::when_nothing && findings.sightings.empty()))
    add_misses(findings, reasons_beyond(target, survey, limits, work));
  findings.complete = !search.stopped();
  if (unit == 1) return findings;
  for (Sighting& s : findings.sightings) s.contrast *= unit;
  for (Miss& m : findings.misses)
    for (LimitMissed& l : m.limits)
      if (l.name == "contrast")
        l.value *= unit, l.sigma *= unit, l.needed = fmt::format("at least {:g}", given.least_contrast);
  return findings;
}

Findings find(const PatternTarget& target, const Survey& survey) {
  return find(target, survey, target.settings().limits);
}

void require_valid(const FindLimits& limits, double unit) {
  require_ordered(limits.angle, "angle");
  require_ordered(limits.scale, "scale");
  if (limits.scale.min < 0.1 || limits.scale.max > 10)
    fail_argument(fmt::format("scale {}..{} must lie within 0.1..10", limits.scale.min, limits.scale.max));
  if (!(limits.least_score >= 0 && limits.least_score <= 100))
    fail_argument(fmt::format("least score {} must be from 0 to 100", limits.least_score));
  const double contrast = limits.least_contrast / unit;
  if (!(contrast >= 1 && contrast <= 255))
    fail_argument(unit == 1
                      ? fmt::format("least contrast {} must be from 1 to 255 grey levels", contrast)
                      : fmt::format("least contrast {} must be from {:.3g} to {:.3g} mm for this relief",
                                    limits.least_contrast, unit, 255 * unit));
  if (limits.count < 0) fail_argument(fmt::format("count {} must be 0 (all) or more", limits.count));
  for (const auto& [value, name] : {std::pair{limits.most_overlap, "most overlap"},
                                    {limits.most_outside, "most outside"},
                                    {limits.effort, "effort"}})
    if (!(value >= 0 && value <= 1)) fail_argument(fmt::format("{} {} must be from 0 to 1", name, value));
}

}  // namespace heron
