#include "candidates.hpp"

#include <algorithm>
#include <cmath>

#include "descent.hpp"
#include "duplicate_filter.hpp"
#include "image/parallel.hpp"
#include "locate/pattern/coarse/coarse_search.hpp"
#include "locate/pattern/model/part_size.hpp"
#include "refine.hpp"

namespace heron {
namespace {

Candidate start_of(const CoarseHit& hit) {
  return {.pose = {hit.place.x, hit.place.y, hit.angle, hit.scale}, .score = 100 * hit.likeness};
}

bool better(const Candidate& a, const Candidate& b) { return a.score > b.score; }

std::vector<Candidate> fitted(const std::vector<Candidate>& starts, const PatternSearch& search, int level,
                              const SpeculativeRefinement& ahead) {
  const LevelFit fit(search, level);
  std::vector<Candidate> results(starts.size());
  if (search.work) search.work->plan(static_cast<int64_t>(starts.size()));
  const int count = static_cast<int>(starts.size());
  parallel_rows(count, std::clamp(count / 16, 1, 8), [&](int first, int end) {
    if (search.stopped()) return;
    if (search.work) search.work->advance(end - first);
    for (auto i = static_cast<size_t>(first); i < static_cast<size_t>(end); ++i) {
      const Candidate* known = ahead.fitted(starts[i], level);
      results[i] = known ? *known : fit.of(starts[i]);
    }
  });
  std::erase_if(results, [](const Candidate& c) { return c.score <= 0; });
  std::stable_sort(results.begin(), results.end(), better);
  return results;
}

/// The candidates that no part known so far explains.
std::vector<Candidate> unexplained(std::vector<Candidate> starts, const DuplicateFilter& duplicates) {
  if (!duplicates.knows_any()) return starts;
  std::vector<uint8_t> explained(starts.size());
  parallel_rows(static_cast<int>(starts.size()), 16, [&](int first, int end) {
    for (auto i = static_cast<size_t>(first); i < static_cast<size_t>(end); ++i)
      explained[i] = duplicates.is_explained(starts[i]);
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

/// Whether the reported origin lies where it may, or so near that a fit may still move it there.
bool may_be_told(const Candidate& start, const PatternSearch& search) {
  if (!search.reach.told_origins) return true;
  const Box& box = *search.reach.told_origins;
  const Point2 p = start.pose * search.reach.told_origin;
  const double longer = norm(search.reach.told_origin) / half_diagonal(search.target),  // by an arm
      near_by = std::ldexp(4.0, search.coarse_level()) * (1 + longer);
  return p.x > box.x - near_by && p.x < box.x + box.width + near_by && p.y > box.y - near_by &&
         p.y < box.y + box.height + near_by;
}

/// `most` hits that no part known so far explains, or what is left of them.
Starts next_starts(CoarseHits& hits, const PatternSearch& search, const DuplicateFilter& duplicates,
                   size_t most) {
  Starts starts;
  while (starts.others.size() < most) {
    const std::vector<CoarseHit> next = hits.next(most - starts.others.size());
    if (next.empty()) break;
    std::vector<Candidate> more;
    std::transform(next.begin(), next.end(), std::back_inserter(more), start_of);
    std::erase_if(more, [&](const Candidate& start) { return !may_be_told(start, search); });
    for (Candidate& c : unexplained(std::move(more), duplicates)) starts.others.push_back(std::move(c));
  }
  starts.leaders = duplicates.take_leaders(starts.others);
  return starts;
}

/// The hits of the coarse search, fitted, some dozens at a time; while one thread takes the next of them, the
/// others fit. What is explained does not count towards how many are fitted: parts that are seen whole must
/// not keep others from being looked at.
std::vector<Candidate> fitted_hits(CoarseHits& hits, const PatternSearch& search, DuplicateFilter& duplicates,
                                   SpeculativeRefinement& ahead) {
  const int level = search.coarse_level();
  constexpr size_t fewest = 16,  // fewer are not gone on for
      at_first = 32,  // tell of most whole parts, and those of most other hits that they are echoes
      at_once = 64;
  // 64, 256, 1024; on the finer level of edges that may rise or fall everything answers in more poses.
  const int min_looks = search.reach.polarity == Polarity::per_edge ? 128 : 64;
  auto left = static_cast<size_t>(min_looks * std::pow(16.0, search.reach.effort));
  std::vector<Candidate> fits;
  const auto add = [&](const std::vector<Candidate>& more) {
    const auto middle = static_cast<ptrdiff_t>(fits.size());
    for (const Candidate& fit : more) {
      if (duplicates.is_again(fit, level)) continue;
      fits.push_back(fit);
      const auto whole = duplicates.learn(fit);
      if (!whole) continue;
      hits.ask_for(whole->echo / 100, whole->middle, whole->sure);
      if (whole->is_first) ahead.begin(fit);
    }
    std::inplace_merge(fits.begin(), fits.begin() + middle, fits.end(), better);
  };
  Starts starts = next_starts(hits, search, duplicates, std::min(left, at_first));
  while (starts.size() > 0 && !search.stopped()) {
    add(fitted(starts.leaders, search, level, ahead));
    starts.others = unexplained(std::move(starts.others), duplicates);
    left -= std::min(left, starts.size());
    Starts next;
    std::vector<Candidate> more;
    parallel_pair([&] { more = fitted(starts.others, search, level, ahead); },
                  [&] {
                    if (left >= fewest) next = next_starts(hits, search, duplicates, std::min(left, at_once));
                  });
    add(more);
    starts = {unexplained(std::move(next.leaders), duplicates),
              unexplained(std::move(next.others), duplicates)};
    // What was taken meanwhile may be explained by now to the last; there may be more.
    if (starts.size() == 0 && left >= fewest)
      starts = next_starts(hits, search, duplicates, std::min(left, at_once));
  }
  return fits;
}

std::vector<Candidate> all_finished(const std::vector<Candidate>& starts, const PatternSearch& search,
                                    const SpeculativeRefinement& ahead) {
  std::vector<Candidate> results(starts.size());
  parallel_rows(static_cast<int>(starts.size()), 1, [&](int first, int end) {
    for (auto i = static_cast<size_t>(first); i < static_cast<size_t>(end); ++i) {
      const Candidate* known = ahead.finished(starts[i]);
      if (known)
        results[i] = *known;
      else if (!search.stopped())
        results[i] = finished(starts[i], search);
    }
  });
  std::erase_if(results, [](const Candidate& c) { return !c.seen; });
  return results;
}

/// The candidates of one way for brightness to change.
std::vector<Candidate> candidates_alike(const PatternSearch& search) {
  const PatternModel& target = search.target;
  const PatternReach& within = search.reach;
  Range<Angle> angles = within.angle;
  if (const double period = 360.0 / target.symmetry(); (angles.max - angles.min).degrees() > period)
    angles.max = angles.min + degrees(period);
  CoarseSearch coarse{.angle = angles, .scale = within.scale, .origins = within.origins};
  coarse.level = search.coarse_level(), coarse.octave = search.octave;
  coarse.min_contrast = search.coarse_contrast();
  coarse.polarity = within.polarity, coarse.effort = within.effort;
  // On the coarse level a part that is 40% covered still answers well, with help from its surroundings.
  coarse.min_likeness = std::clamp(0.0096 * within.min_score, 0.42, 0.52) + 0.06 * (1 - 2 * within.effort);
  CoarseHits hits = coarse_search(target, search.prepared, coarse, search.work);
  DuplicateFilter duplicates(target, {within.scale, within.effort, within.max_overlap});
  SpeculativeRefinement ahead(search);
  const int top = search.coarse_level();
  std::vector<Candidate> candidates;
  for (int level = top; level >= 0; --level) {
    const double least = stage_limit(search, level);
    std::vector<Candidate> all = level == top ? fitted_hits(hits, search, duplicates, ahead)
                                              : fitted(candidates, search, level, ahead);
    const auto good =
        std::find_if(all.begin(), all.end(), [&](const Candidate& c) { return c.score < least; });
    if (good == all.begin() && !all.empty() && within.names_nearest) {
      // What resembled the part most, with the score that it has in the full picture.
      see(all.front(), search);
      return {all.front()};
    }
    all.erase(good, all.end());
    if (level == top) ahead.wait();
    candidates = duplicates.distinct(std::move(all), level);
  }
  return all_finished(candidates, search, ahead);
}

/// A part of either polarity is as taught or inverted as a whole: two searches. One for edges of both signs,
/// each by itself, would meet far more that is nothing.
std::vector<Candidate> candidates_of_octave(const PatternSearch& search) {
  if (search.reach.polarity != Polarity::either) return candidates_alike(search);
  PatternSearch each = search;
  each.reach.polarity = Polarity::as_taught;
  std::vector<Candidate> candidates = candidates_alike(each);
  each.reach.polarity = Polarity::inverted;
  for (Candidate& c : candidates_alike(each)) candidates.push_back(std::move(c));
  return candidates;
}

}  // namespace

/// Each octave of scales is a search of its own, from the level on which such a part is as large as the
/// taught one on its coarsest: none takes the looks or the levels that another needs, so a wider range loses
/// nothing.
std::vector<Candidate> candidates_of(const PatternSearch& search) {
  const Range<double> scales = search.reach.scale;
  constexpr double octave = 2.05;  // what one search lengths
  const double ratio = scales.max / scales.min;
  const int count = std::max(1, static_cast<int>(std::ceil(std::log(ratio) / std::log(octave))));
  std::vector<Candidate> all;
  for (int i = 0; i < count; ++i) {
    PatternSearch one = search;
    if (count > 1)
      one.reach.scale = {scales.min * std::pow(ratio, static_cast<double>(i) / count),
                         scales.min * std::pow(ratio, (i + 1.0) / count)};
    one.octave = static_cast<int>(std::lround(std::log2(one.reach.scale.min * one.reach.scale.max) / 2));
    for (Candidate& c : candidates_of_octave(one)) all.push_back(std::move(c));
  }
  return all;
}

}  // namespace heron
