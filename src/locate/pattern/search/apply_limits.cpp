#include "apply_limits.hpp"

#include <fmt/format.h>

#include "faint_edges.hpp"
#include "heron/locate/names.hpp"
#include "image/parallel.hpp"
#include "locate/common/misses.hpp"
#include "locate/pattern/model/part_size.hpp"
#include "overlap.hpp"
#include "rivals.hpp"

namespace heron {
namespace {

/// The middle of the part, which unlike its origin always lies on it.
Point2 middle(const Box& extent, const Similarity2& pose) { return pose * extent.centre(); }

bool same_spot(const PatternModel& target, const Similarity2& a, const Similarity2& b) {
  return distance(middle(target.extent(), a), middle(target.extent(), b)) <
         spot_radius(target) * std::min(a.scale, b.scale);
}

/// How far a value lies inside a range, below 0 outside. A full turn has no ends.
double inside(const Range<Angle>& range, Angle angle) {
  const double width = (range.max - range.min).degrees();
  if (width >= 360) return 360;
  // From the middle of the range, either way.
  const double off = std::remainder((angle - range.min).degrees() - width / 2, 360.0);
  return width / 2 - std::abs(off);
}
double inside(const Range<double>& range, double value) {
  return std::min(value - range.min, range.max - value);
}

/// Whether a value that was free within a range may be returned: three of its sigmas must lie inside, since a
/// part that lies beyond the range may fit at its end. A range without width fixes the value.
bool lies_within(double inside, double width, double sigma) {
  constexpr double slack = 1e-9;
  return width > 0 ? inside >= 3 * sigma : inside >= -slack;
}

std::string words(double min, double max, bool is_at_end) {
  return fmt::format("{:g}..{:g}{}", min, max, is_at_end ? " with three sigma to spare" : "");
}

/// Of a share seen of edges, of which neighbours are seen or hidden together, about ten at a time.
double sigma_of_score(double score, const PatternModel& target) {
  const double share = std::clamp(score / 100, 0.02, 0.98);
  return 100 * std::sqrt(share * (1 - share) * 10 / static_cast<double>(target.levels()[0].size()));
}

/// The limits of the candidate itself; count and overlap depend on the others.
std::vector<MissReason> limits_missed(const Candidate& c, const FindOptions& options,
                                      const PatternModel& target, const PreparedPicture& prepared) {
  std::vector<MissReason> missed;
  if (c.score < options.min_score)
    missed.push_back(too_low(limit::score, c.score, options.min_score, sigma_of_score(c.score, target)));
  if (c.contrast_wanted)
    missed.push_back(
        too_low(limit::contrast, *c.contrast_wanted, options.min_contrast, 0.5 * prepared.noise_sigma(0)));
  const double turned = inside(options.angle, c.pose.angle), turned_sigma = c.sigma.angle.degrees(),
               scaled = inside(options.scale, c.pose.scale);
  const Range<double> angles{options.angle.min.degrees(), options.angle.max.degrees()};
  if (target.has_angle() && !lies_within(turned, angles.max - angles.min, turned_sigma))
    missed.push_back(
        {limit::angle, c.pose.angle.degrees(), words(angles.min, angles.max, turned > 0), turned_sigma});
  if (!lies_within(scaled, options.scale.max - options.scale.min, c.sigma.scale))
    missed.push_back(
        {limit::scale, c.pose.scale, words(options.scale.min, options.scale.max, scaled > 0), c.sigma.scale});
  if (c.outside > options.max_outside)
    missed.push_back({limit::outside, c.outside, fmt::format("at most {:g}", options.max_outside)});
  const bool inverted = c.rise == GradientSign::down;
  if (options.inversion == Inversion::none && inverted) missed.push_back({limit::inversion, -1, "as taught"});
  if (!options.region.empty()) {
    if (!options.region.contains(c.pose.position()))
      missed.push_back({limit::region, 0, "the origin inside the search region"});
    return missed;
  }
  const Point2 p = c.pose * target.to_centred();
  if (!(p.x >= -0.5 && p.y >= -0.5 && p.x <= prepared.width() - 0.5 && p.y <= prepared.height() - 0.5))
    missed.push_back({limit::region, 0,
                      &target.centred() == &target ? "the origin inside the picture"
                                                   : "the middle of the part inside the picture"});
  return missed;
}

template <class Scored>
void best_first(std::vector<Scored>& some) {
  std::stable_sort(some.begin(), some.end(),
                   [](const Scored& a, const Scored& b) { return a.score > b.score; });
}

Miss miss_of(const Candidate& c, std::vector<MissReason> options) {
  return {c.pose.x, c.pose.y, c.pose.angle, c.pose.scale, c.score, std::move(options)};
}

std::vector<EdgeMatch> matches_of(const Candidate& c, const PatternModel& target) {
  const std::vector<TaughtEdge>& edges = target.levels()[0];
  const float *offsets = c.seen->offsets.data(), *weights = c.seen->weights.data();
  const Point2 origin = c.pose.position(), along{cos(c.pose.angle), sin(c.pose.angle)},
               scaled = along * c.pose.scale;
  const auto turned = [](Point2 by, Point2 p) {
    return Point2{by.x * p.x - by.y * p.y, by.y * p.x + by.x * p.y};
  };
  std::vector<EdgeMatch> matches(edges.size());
  for (size_t i = 0; i < edges.size(); ++i)
    matches[i].place = turned(scaled, edges[i].place) + origin,
    matches[i].normal = turned(along, edges[i].normal), matches[i].distance = offsets[i],
    matches[i].weight = weights[i];
  return matches;
}

Detection detection_of(const Candidate& c, const PatternModel& target, const FindOptions& options) {
  Detection s{.target = target.name(),
              .x = c.pose.x,
              .y = c.pose.y,
              .angle = c.pose.angle,
              .scale = c.pose.scale,
              .score = c.score,
              .contrast = c.contrast,
              .sigma = c.sigma.reported(target.has_angle()),
              .ambiguous = c.other,
              .inverted = c.rise == GradientSign::down};
  constexpr double near = 6;  // sigmas
  if (target.has_angle() && options.angle.max > options.angle.min &&
      inside(options.angle, c.pose.angle) < near * c.sigma.angle.degrees())
    s.range_end.push_back(limit::angle);
  if (options.scale.max > options.scale.min && inside(options.scale, c.pose.scale) < near * c.sigma.scale)
    s.range_end.push_back(limit::scale);
  s.edges = matches_of(c, target);
  return s;
}

}  // namespace

FindResult apply_limits(const PatternModel& target, const PreparedPicture& prepared,
                        std::vector<Candidate> candidates, const FindOptions& options) {
  best_first(candidates);
  FindResult result;
  std::vector<Candidate> taken, told;
  struct TurnedAway {
    Candidate candidate;
    std::vector<MissReason> reasons;
  };
  std::vector<TurnedAway> turned_away;
  const auto on_spot_of = [&](const std::vector<Candidate>& others, const Candidate& c) {
    return std::any_of(others.begin(), others.end(),
                       [&](const Candidate& other) { return same_spot(target, c.pose, other.pose); });
  };
  const auto shares_edges = [&](const Candidate& c, const Candidate& other, double least) {
    return distance(middle(target.extent(), c.pose), middle(target.extent(), other.pose)) <
               half_diagonal(target) * (c.pose.scale + other.pose.scale) &&
           share_seen_of(c, other, target) > least;
  };
  // Two finds cannot both own what they are seen by: of a part, moved over itself, much is seen again.
  const auto shows_one_of = [&](const std::vector<Candidate>& others, const Candidate& c) {
    return std::any_of(others.begin(), others.end(),
                       [&](const Candidate& other) { return shares_edges(c, other, 0.5); });
  };
  // Where neither of two poses explains the picture as teaching promised and both explain it about as well,
  // it is not known which is right: a bar longer than the taught one fits at either of its ends.
  const auto compete = [&](Candidate& best, const Candidate& c) {
    constexpr double as_promised = 95, about_as_well = 2, shared = 0.3;
    if (best.other || best.score >= as_promised || c.score < best.score - about_as_well) return;
    if (shares_edges(c, best, shared)) best.other = {c.pose.x, c.pose.y, c.pose.angle, c.pose.scale, c.score};
  };
  const auto overlap_of = [&](const Candidate& a, const Candidate& b) {
    return overlap(Footprint(target.extent(), a.pose), Footprint(target.extent(), b.pose));
  };
  // What keeps within the limits has the first say about its spot; what does not is a miss only where nothing
  // was found.
  for (const Candidate& c : candidates) {
    std::vector<MissReason> missed = limits_missed(c, options, target, prepared);
    if (missed.empty()) {
      if (on_spot_of(taken, c)) continue;
      for (Candidate& best : taken) compete(best, c);
      if (shows_one_of(taken, c)) continue;
      double most = 0;
      for (const Candidate& other : taken) most = std::max(most, overlap_of(c, other));
      if (1 - most < options.min_visible)
        missed.push_back(too_low(limit::visible, 1 - most, options.min_visible));
      else if (static_cast<int>(taken.size()) >= options.max_count)
        missed.push_back(too_many(taken.size(), options.max_count));
    }
    if (missed.empty())
      taken.push_back(c);
    else
      turned_away.push_back({c, std::move(missed)});
  }
  for (TurnedAway& away : turned_away) {
    Candidate& c = away.candidate;
    if (result.misses.size() == max_misses || on_spot_of(taken, c) || on_spot_of(told, c)) continue;
    if (2 * c.score < options.min_score && !told.empty())
      continue;  // far off, and a better miss is already listed
    // Part of what was found, laid over itself a little off, is no news.
    const auto duplicates = [&](const Candidate& s) {
      return 2 * c.score < s.score && overlap_of(c, s) > 0.3;
    };
    if (std::any_of(taken.begin(), taken.end(), duplicates) || shows_one_of(told, c)) continue;
    told.push_back(c);
    if (c.score < options.min_score && !c.contrast_wanted) {
      weigh_faint_edges(c, options, target, prepared);
      away.reasons = limits_missed(c, options, target, prepared);
    }
    result.misses.push_back(miss_of(c, std::move(away.reasons)));
  }
  best_first(result.misses);
  result.detections.resize(taken.size());
  parallel_rows(static_cast<int>(taken.size()), 1, [&](int first, int end) {
    for (auto i = static_cast<size_t>(first); i < static_cast<size_t>(end); ++i)
      result.detections[i] = detection_of(taken[i], target, options);
  });
  return result;
}

void add_misses(FindResult& result, const std::vector<Miss>& more) {
  for (const Miss& m : more) {
    const auto near = [&](const auto& other) { return std::hypot(other.x - m.x, other.y - m.y) < 5; };
    if (std::any_of(result.misses.begin(), result.misses.end(), near) ||
        std::any_of(result.detections.begin(), result.detections.end(), near))
      continue;
    result.misses.push_back(m);
  }
  best_first(result.misses);
  keep_nearest(result);
}

}  // namespace heron
