#include "rivals.hpp"

#include <algorithm>
#include <cmath>

#include "candidates.hpp"
#include "descent.hpp"
#include "image/parallel.hpp"
#include "locate/pattern/edges/edge_map.hpp"
#include "locate/pattern/edges/symmetry.hpp"
#include "locate/pattern/model/part_size.hpp"
#include "refine.hpp"
#include "self_check.hpp"
#include "slides.hpp"

namespace heron {
namespace {

Similarity2 after(const Similarity2& outer, const Similarity2& inner) {
  const Point2 p = outer * inner.position();
  return {p.x, p.y, (outer.angle + inner.angle).wrapped(), outer.scale * inner.scale};
}

/// How far the part's edges lie apart in two poses, of those that look the same the nearest; root of the mean
/// square, pixels.
double apart(const PatternModel& target, const Similarity2& a, const Similarity2& b) {
  const Point2 centre = target.symmetry() > 1 ? target.symmetry_centre() : target.extent().centre();
  double turned = (a.angle - b.angle).radians();
  turned = target.has_angle() ? std::remainder(turned, 2 * std::numbers::pi / target.symmetry()) : 0;
  const double radius = 0.7 * half_diagonal(target) * std::min(a.scale, b.scale);
  return std::hypot(distance(a * centre, b * centre), radius * turned, radius * std::log(a.scale / b.scale));
}

constexpr double same_within = 1.5;  // pixels; nearer is the same pose
constexpr double min_likeness = 45;  // per cent; what is like the part by less is not found by default
constexpr size_t max_rivals = 96;

/// A candidate's score by the few edges that stand for all.
double score_by_few(const PatternSearch& search, const Similarity2& pose, GradientSign rise) {
  return see_edges(search.prepared.level(0), search.target.few_columns(), pose, search.reach.min_contrast,
                   rise)
      .score;
}

/// A candidate fitted near `pose`, from scratch.
std::optional<Candidate> fitted_at(const PatternSearch& search, const Similarity2& pose, GradientSign rise) {
  PatternSearch here = search;
  if (here.reach.polarity == Polarity::either)
    here.reach.polarity = rise == GradientSign::down ? Polarity::inverted : Polarity::as_taught;
  EdgeFitSearch edge = edge_search(here, 0);
  edge.rounds = 4;
  const EdgeFit fit = fit_edges(here.prepared.level(0), here.target.few_columns(), pose, edge);
  if (!fit.fitted) return std::nullopt;
  Candidate c = finished({.pose = fit.pose, .score = fit.score, .sigma = fit.sigma, .rise = edge.rise}, here);
  if (!c.seen) return std::nullopt;
  return c;
}

/// Of `poses`, the one that the few edges like most.
template <class Poses>
const Similarity2* likest(const PatternSearch& search, const Poses& poses, GradientSign rise, double& score) {
  const Similarity2* best = nullptr;
  for (const Similarity2& pose : poses)
    if (const double s = score_by_few(search, pose, rise); s > score) best = &pose, score = s;
  return best;
}

void settle(Candidate& c, const PatternSearch& search, const std::vector<Rival>& rivals) {
  constexpr double may_show_more = 10;  // per cent, by what lies around it
  const auto rivals_of = [&](double score) {
    const auto end = std::find_if(rivals.begin(), rivals.end(),
                                  [&](const Rival& r) { return r.score < score - may_show_more; });
    return std::pair(rivals.begin(), end);
  };
  constexpr int max_moves = 6;
  for (int moves = 0; moves < max_moves; ++moves) {
    const auto [first, end] = rivals_of(c.score);
    std::vector<Similarity2> there;
    for (auto r = first; r != end; ++r) there.push_back(after(c.pose, r->pose.inverse()));
    double by_few = score_by_few(search, c.pose, c.rise);
    const Similarity2* best = likest(search, there, c.rise, by_few);
    if (!best) break;
    const std::optional<Candidate> moved = fitted_at(search, *best, c.rise);
    if (!moved || moved->score <= c.score) break;
    c = *moved;
  }
  // What decides is what is seen beside what teaching promised.
  const auto [first, end] = rivals_of(c.score);
  double most = 0;
  const Rival* likest_rival = nullptr;
  Similarity2 its_pose;
  for (auto r = first; r != end; ++r)
    for (const Similarity2& pose : {after(c.pose, r->pose), after(c.pose, r->pose.inverse())})
      if (const double s = score_by_few(search, pose, c.rise); s > most)
        most = s, likest_rival = &*r, its_pose = pose;
  if (!likest_rival || most < c.score - 8) return;
  const std::optional<Candidate> other = fitted_at(search, its_pose, c.rise);
  if (!other || apart(search.target, other->pose, c.pose) < same_within) return;
  const double promised = (100 - likest_rival->score) * c.score / 100;
  if (other->score > c.score - promised / 2)
    c.other = {other->pose.x, other->pose.y, other->pose.angle, other->pose.scale, other->score};
}

constexpr double about_as_well = 4;  // per cent of the score

/// The first pose along hidden edges that explains about as much as `c`, or more.
std::optional<Candidate> slid(const Candidate& c, const PatternSearch& search) {
  constexpr double apart_from = 0.7;  // pixels
  for (const Similarity2& pose : slides_of(c, search)) {
    std::optional<Candidate> other = fitted_at(search, pose, c.rise);
    if (other && other->score >= c.score - about_as_well &&
        apart(search.target, other->pose, c.pose) >= apart_from)
      return other;
  }
  return std::nullopt;
}

/// Where some of the part is hidden, looks for another pose along it. One that explains clearly more is
/// taken, and looked on from: a fit may have come to rest between two such poses. One that explains as much
/// is kept with the candidate. Skipped for misses, which report no other pose.
void try_slides(Candidate& c, const PatternSearch& search) {
  if (search.reach.names_nearest || c.score < search.reach.min_score || !c.seen) return;
  constexpr int max_moves = 3;
  for (int moves = 0; moves < max_moves; ++moves) {
    const std::optional<Candidate> other = slid(c, search);
    if (!other) return;
    if (other->score <= c.score + about_as_well) {
      c.other = {other->pose.x, other->pose.y, other->pose.angle, other->pose.scale, other->score};
      return;
    }
    c = *other;
  }
}

/// The rivals of one target while they are gathered.
class Gathering {
 public:
  Gathering(const PatternSearch& search, const Similarity2& taught)
      : search_(search), taught_(taught), back_(taught.inverse()) {}

  /// Takes a fit over the taught picture, unless it is the part itself, looks like it, or is known.
  void take(const Candidate& c) {
    if (c.score < min_likeness || c.score >= alike_from || rivals_.size() == max_rivals) return;
    const Rival r{after(back_, c.pose), c.score};
    if (!is_known(r.pose)) rivals_.push_back(r);
  }
  /// Turns about the part's middle, each where it is more like itself than a little further: of many that are
  /// equally like it a search keeps some.
  void take_turns() {
    if (!search_.target.has_angle()) return;
    const Point2 middle = search_.target.extent().centre(), at = taught_ * middle;
    const int count =
        std::max(8, static_cast<int>(2 * std::numbers::pi * half_diagonal(search_.target) / 1.5));
    const auto turned = [&](int i) {
      const Angle turn = degrees(360.0 * i / count);
      const Point2 p = at - rotated(middle, turn);
      return Similarity2{p.x, p.y, turn.wrapped(), 1};
    };
    std::vector<double> scores;
    for (int i = 0; i < count; ++i) scores.push_back(score_by_few(search_, turned(i), GradientSign::up));
    for (int i = 0; i < count; ++i) {
      const auto score = [&](int k) { return scores[static_cast<size_t>((k + count) % count)]; };
      if (score(i) < 0.6 * min_likeness || score(i) < score(i - 1) || score(i) < score(i + 1)) continue;
      if (const auto c = fitted_at(search_, turned(i), GradientSign::up)) take(*c);
    }
  }
  /// What follows from those that are known: each undone, and one after the other. A search keeps not every
  /// turn by a tooth of a gear, since one is as like it as the next.
  void take_what_follows() {
    best_first();
    const std::vector<Rival> first(
        rivals_.begin(), rivals_.begin() + static_cast<ptrdiff_t>(std::min(rivals_.size(), size_t{12})));
    std::vector<Similarity2> poses;
    for (const Rival& a : first) {
      poses.push_back(a.pose.inverse());
      for (const Rival& b : first)
        for (const Similarity2& inner : {b.pose, b.pose.inverse()}) poses.push_back(after(a.pose, inner));
    }
    for (const Similarity2& pose : poses) {
      if (is_known(pose)) continue;
      const Similarity2 there = after(taught_, pose);
      if (score_by_few(search_, there, GradientSign::up) < min_likeness) continue;
      if (const auto c = fitted_at(search_, there, GradientSign::up)) take(*c);
    }
  }
  std::vector<Rival> all() {
    best_first();
    return rivals_;
  }

 private:
  bool is_known(const Similarity2& pose) const {
    const auto near = [&](const Similarity2& other) {
      return apart(search_.target, pose, other) < 2 * same_within;
    };
    return near({}) ||
           std::any_of(rivals_.begin(), rivals_.end(), [&](const Rival& r) { return near(r.pose); });
  }
  void best_first() {
    std::stable_sort(rivals_.begin(), rivals_.end(),
                     [](const Rival& a, const Rival& b) { return a.score > b.score; });
  }

  const PatternSearch& search_;
  Similarity2 taught_, back_;
  std::vector<Rival> rivals_;
};

}  // namespace

std::vector<Rival> find_rivals(const PatternModel& target) {
  const int margin = static_cast<int>(half_diagonal(target));
  const PreparedPicture prepared(with_margin(target.pixels(), target.mask(), margin));
  const double contrast = std::max(weakest_contrast, 0.4 * target.strength());
  const PatternReach reach{.angle = full_turn,
                           .scale = {1, 1},
                           .min_contrast = contrast,
                           .min_score = min_likeness,
                           .polarity = Polarity::as_taught,
                           .effort = 1,
                           .max_overlap = 1,
                           .origins = {0, 0, prepared.width() - 1.0, prepared.height() - 1.0}};
  const PatternSearch search{target, prepared, reach, nullptr};
  const Similarity2 taught{target.origin().x + margin, target.origin().y + margin, {}, 1};
  std::vector<Candidate> candidates = candidates_of(search);
  std::stable_sort(candidates.begin(), candidates.end(),
                   [](const Candidate& a, const Candidate& b) { return a.score > b.score; });
  Gathering rivals(search, taught);
  for (const Candidate& c : candidates) rivals.take(c);
  rivals.take_turns();
  rivals.take_what_follows();
  return rivals.all();
}

void settle_rivals(std::vector<Candidate>& candidates, const PatternSearch& search) {
  const std::vector<Rival>& rivals = search.target.rivals();
  parallel_rows(static_cast<int>(candidates.size()), 1, [&](int first, int end) {
    for (auto i = static_cast<size_t>(first); i < static_cast<size_t>(end); ++i)
      if (!search.stopped() && candidates[i].score >= 0.6 * search.reach.min_score) {
        if (!rivals.empty()) settle(candidates[i], search, rivals);
        if (!candidates[i].other) try_slides(candidates[i], search);
      }
  });
}

double share_seen_of(const Candidate& c, const Candidate& other, const PatternModel& target) {
  const std::vector<TaughtEdge>& edges = target.levels()[0];
  const EdgeMap& map = target.edge_map();
  const Similarity2 back = other.pose.inverse();
  const Angle turned = c.pose.angle - other.pose.angle;
  double all = 0, shared = 0;
  for (size_t i = 0; i < edges.size(); ++i) {
    const double weight = static_cast<double>(c.seen->weights[i]);
    if (!(weight > 0)) continue;
    all += weight;
    const Point2 there = back * (c.pose * edges[i].place);
    if (map.nearest(there, rotated(edges[i].normal, turned), 2.5)) shared += weight;
  }
  return all > 0 ? shared / all : 0;
}

}  // namespace heron
