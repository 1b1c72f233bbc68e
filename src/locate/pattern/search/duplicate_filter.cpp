#include "duplicate_filter.hpp"

#include <algorithm>
#include <array>
#include <cmath>

#include "locate/pattern/model/part_size.hpp"

namespace heron {
namespace {

bool within(Point2 a, Point2 b, double far) { return dot(a - b, a - b) < far * far; }

}  // namespace

DuplicateFilter::DuplicateFilter(const PatternModel& target, const EchoLimits& options)
    : target_(target),
      effort_(options.effort),
      min_scale_(options.scale.min),
      radius_(half_diagonal(target)),
      spot_(spot_radius(target) * options.scale.min),
      max_(std::max(0.5, options.max_overlap)),
      reach_(2 * radius_ * (1 - max_) * options.scale.max),
      sure_(sure_reach()) {}

/// Of the smallest part that is looked for; larger ones only lie over more. Between the angles and ways that
/// are tried a box lies over as much.
double DuplicateFilter::sure_reach() const {
  const double slant = std::sqrt(0.5);
  const std::array<Point2, 4> ways{{{1, 0}, {0, 1}, {slant, slant}, {-slant, slant}}};
  const Footprint whole(target_.extent(), {});
  std::vector<Footprint> turned;  // crosswise first: mostly that decides
  for (const int turn : {90, 60, 30, 0})
    turned.emplace_back(target_.extent(), Similarity2{0, 0, degrees(turn), 1});
  const auto covers = [&](double far) {
    return std::all_of(turned.begin(), turned.end(), [&](Footprint other) {
      return std::all_of(ways.begin(), ways.end(), [&](Point2 way) {
        other.middle = whole.middle + way * far;
        return overlap(whole, other) > max_;
      });
    });
  };
  double sure = 0, step = radius_;
  for (int i = 0; i < 5; ++i)
    if (step /= 2; covers(sure + step)) sure += step;
  return sure * min_scale_;
}

DuplicateFilter::Placed DuplicateFilter::placed(const Candidate& c) const {
  const Footprint box(target_.extent(), c.pose);
  return {c.pose, box};
}

bool DuplicateFilter::on_spot(const Placed& a, const Placed& b) const {
  return within(a.box.middle, b.box.middle, spot_);
}

bool DuplicateFilter::lies_over(const Placed& a, const Placed& b) const {
  return within(a.box.middle, b.box.middle, sure_) ||
         (within(a.box.middle, b.box.middle, reach_) && overlap(a.box, b.box) > max_);
}

bool DuplicateFilter::same_pose(const Placed& a, const Placed& b, int level) const {
  const double pixels = 0.7 * std::ldexp(1.0, level);
  return within(a.pose.position(), b.pose.position(), pixels) &&
         std::abs((a.pose.angle - b.pose.angle).wrapped().radians()) * radius_ < pixels &&
         std::abs(a.pose.scale - b.pose.scale) * radius_ < pixels;
}

std::vector<Candidate> DuplicateFilter::take_leaders(std::vector<Candidate>& hits) const {
  std::vector<Candidate> leaders, others;
  std::vector<Placed> led;
  for (Candidate& c : hits) {
    const Placed its = placed(c);
    const bool known = std::any_of(led.begin(), led.end(), [&](const Placed& leader) {
      return on_spot(its, leader) || lies_over(its, leader);
    });
    if (!known) led.push_back(its);
    (known ? others : leaders).push_back(std::move(c));
  }
  hits = std::move(others);
  return leaders;
}

std::optional<DuplicateFilter::Whole> DuplicateFilter::learn(const Candidate& fit) {
  constexpr double nearly_whole = 80;
  if (effort_ >= 1 || fit.score < nearly_whole) return {};
  const Placed its = placed(fit);
  const double echo = (0.95 - 0.1 * effort_) * fit.score;
  const bool is_first =
      std::none_of(wholes_.begin(), wholes_.end(), [&](const Known& w) { return lies_over(its, w.place); });
  wholes_.push_back({its, fit.score, echo});
  return Whole{its.box.middle, echo, sure_, is_first};
}

bool DuplicateFilter::is_again(const Candidate& fit, int level) const {
  constexpr double hardly = 3;
  const Placed its = placed(fit);
  return std::any_of(wholes_.begin(), wholes_.end(), [&](const Known& whole) {
    return fit.score < whole.score + hardly && same_pose(its, whole.place, level);
  });
}

bool DuplicateFilter::is_explained(const Candidate& hit) const {
  if (wholes_.empty()) return false;
  const Placed its = placed(hit);
  return std::any_of(wholes_.begin(), wholes_.end(), [&](const Known& whole) {
    return hit.score < whole.echo && lies_over(its, whole.place);
  });
}

std::vector<Candidate> DuplicateFilter::distinct(std::vector<Candidate> fits, int level) const {
  const double echo = effort_ >= 1 ? 0 : 0.7 - 0.2 * effort_;
  std::vector<Candidate> kept;
  std::vector<Placed> places;
  for (Candidate& c : fits) {
    const Placed its = placed(c);
    bool known = false;
    for (size_t i = 0; i < kept.size() && !known; ++i)
      known = (c.score < echo * kept[i].score && (on_spot(its, places[i]) || lies_over(its, places[i]))) ||
              same_pose(its, places[i], level);
    if (!known) places.push_back(its), kept.push_back(std::move(c));
  }
  return kept;
}

}  // namespace heron
