#include "echoes.hpp"

#include <algorithm>
#include <cmath>

#include "part_size.hpp"

namespace heron {
namespace {

bool within(Point2 a, Point2 b, double far) { return dot(a - b, a - b) < far * far; }

}  // namespace

Echoes::Echoes(const PatternTarget& target, const EchoLimits& limits)
    : target_(target),
      effort_(limits.effort),
      radius_(half_diagonal(target)),
      spot_(spot_radius(target) * limits.scale.min),
      most_(std::max(0.5, limits.most_overlap)),
      reach_(2 * radius_ * (1 - most_) * limits.scale.max),
      sure_(sure_echoes()) {}

/// The extent, shrunk until another one around each of its corners lies by half over it at any angle; a
/// lengthy part has none such, since across it only a little of it is covered.
Box Echoes::sure_echoes() const {
  const Box& whole = target_.extent();
  const Point2 middle = whole.centre();
  const Footprint here(whole, {});
  for (const double share : {0.5, 0.35, 0.2}) {
    const Box box{middle.x - 0.5 * share * whole.width, middle.y - 0.5 * share * whole.height,
                  share * whole.width, share * whole.height};
    bool sure = true;
    for (int turn = 0; turn < 180 && sure; turn += 15)
      for (const Point2 corner : {Point2{box.x, box.y}, Point2{box.x + box.width, box.y}}) {
        const Point2 origin = corner - rotated(middle, degrees(turn));
        sure = sure && overlap(here, Footprint(whole, {origin.x, origin.y, degrees(turn), 1})) > most_;
      }
    if (sure) return box;
  }
  return {middle.x, middle.y, 0, 0};
}

Echoes::Placed Echoes::placed(const Candidate& c) const {
  const Footprint box(target_.extent(), c.pose);
  return {c.pose, (box.corners[0] + box.corners[2]) * 0.5, box};
}

bool Echoes::on_spot(const Placed& a, const Placed& b) const { return within(a.middle, b.middle, spot_); }

bool Echoes::lies_over(const Placed& a, const Placed& b) const {
  return within(a.middle, b.middle, reach_) && overlap(a.box, b.box) > most_;
}

bool Echoes::same_pose(const Placed& a, const Placed& b, double pixels) const {
  return within(a.pose.position(), b.pose.position(), pixels) &&
         std::abs((a.pose.angle - b.pose.angle).wrapped().radians()) * radius_ < pixels &&
         std::abs(a.pose.scale - b.pose.scale) * radius_ < pixels;
}

std::vector<Candidate> Echoes::take_leaders(std::vector<Candidate>& hits) const {
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

void Echoes::learn(const std::vector<Candidate>& fits, CoarseHits& hits) {
  constexpr double nearly_whole = 80;
  if (effort_ >= 1) return;
  const double worse = 0.95 - 0.1 * effort_;
  for (const Candidate& fit : fits) {
    if (fit.score < nearly_whole) continue;
    wholes_.push_back({placed(fit), worse * fit.score});
    hits.pass_over(fit.pose, sure_, worse * fit.score / 100);
  }
}

bool Echoes::is_explained(const Candidate& hit) const {
  if (wholes_.empty()) return false;
  const Placed its = placed(hit);
  return std::any_of(wholes_.begin(), wholes_.end(), [&](const Whole& whole) {
    return hit.score < whole.echo && lies_over(its, whole.place);
  });
}

std::vector<Candidate> Echoes::distinct(std::vector<Candidate> fits, int level) const {
  const double pixels = 0.7 * std::ldexp(1.0, level), echo = effort_ >= 1 ? 0 : 0.7 - 0.2 * effort_;
  std::vector<Candidate> kept;
  std::vector<Placed> places;
  for (Candidate& c : fits) {
    const Placed its = placed(c);
    bool known = false;
    for (size_t i = 0; i < kept.size() && !known; ++i)
      known = (c.score < echo * kept[i].score && (on_spot(its, places[i]) || lies_over(its, places[i]))) ||
              same_pose(its, places[i], pixels);
    if (!known) places.push_back(its), kept.push_back(std::move(c));
  }
  return kept;
}

}  // namespace heron
