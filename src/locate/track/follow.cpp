#include "heron/locate/follow.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>

#include "heron/base/error.hpp"

namespace heron {
namespace {

/// The slope of a straight line through values over times, and its sigma.
struct Slope {
  double value = 0;
  std::optional<double> sigma;
};

Slope slope_of(const std::vector<double>& times, const std::vector<double>& values,
               const std::optional<double>& value_sigma) {
  const auto n = static_cast<double>(times.size());
  double t = 0, v = 0;
  for (size_t i = 0; i < times.size(); ++i) t += times[i] / n, v += values[i] / n;
  double tt = 0, tv = 0;
  for (size_t i = 0; i < times.size(); ++i)
    tt += (times[i] - t) * (times[i] - t), tv += (times[i] - t) * (values[i] - v);
  Slope slope{tv / tt, {}};
  double squares = 0;
  for (size_t i = 0; i < times.size(); ++i) {
    const double off = values[i] - v - slope.value * (times[i] - t);
    squares += off * off;
  }
  // What does not move evenly scatters more than its detections' sigma.
  const double scatter = n > 3 ? std::sqrt(squares / (n - 2)) : 0;
  if (value_sigma || n > 3) slope.sigma = std::max(value_sigma.value_or(0), scatter) / std::sqrt(tt);
  return slope;
}

void require_valid(const FollowSettings& s) {
  if (!(s.reach_px >= 1 && s.reach_px <= 10000))
    fail_argument(fmt::format("a reach of {:g} pixels must be from 1 to 10000", s.reach_px));
  if (!(s.lost_after_s > 0 && s.lost_after_s <= 1e6) || !(s.span_s > 0 && s.span_s <= 1e6))
    fail_argument(fmt::format("lost after {:g} s and a span of {:g} s must be above 0 and at most a million",
                              s.lost_after_s, s.span_s));
}

}  // namespace

Follower::Follower(const FollowSettings& settings) : settings_(settings) { require_valid(settings); }

Point2 Follower::Thing::expected(double at_s) const {
  const Place& last = places.back();
  if (!velocity) return last.px;
  return last.px + Point2{velocity->x, velocity->y} * (at_s - last.at_s);
}

void Follower::update(Thing& thing, const Place& place) const {
  thing.places.push_back(place);
  ++thing.pictures;
  auto& places = thing.places;
  while (places.size() > 2 && place.at_s - places.front().at_s > settings_.span_s)
    places.erase(places.begin());
  if (places.size() < 2) return;
  std::vector<double> times, x, y, x_mm, y_mm;
  std::optional<double> sigma_x = 0, sigma_y = 0;
  const auto add = [](std::optional<double>& largest, const std::optional<double>& one) {
    largest = largest && one ? std::optional(std::max(*largest, *one)) : std::nullopt;
  };
  for (const Place& p : places) {
    times.push_back(p.at_s - place.at_s), x.push_back(p.px.x), y.push_back(p.px.y);
    add(sigma_x, p.sigma_x), add(sigma_y, p.sigma_y);
    if (p.mm) x_mm.push_back(p.mm->x), y_mm.push_back(p.mm->y);
  }
  const Slope vx = slope_of(times, x, sigma_x), vy = slope_of(times, y, sigma_y);
  thing.velocity = Velocity{vx.value, vy.value, vx.sigma, vy.sigma};
  if (x_mm.size() != times.size()) return;
  // Pixels and millimetres differ by what the same way is worth in each.
  const double way = std::hypot(x.back() - x.front(), y.back() - y.front()),
               way_mm = std::hypot(x_mm.back() - x_mm.front(), y_mm.back() - y_mm.front());
  const double mm = way > 1e-9 ? way_mm / way : 0;
  std::optional<double> of_both;
  if (sigma_x && sigma_y) of_both = mm * std::max(*sigma_x, *sigma_y);
  const Slope wx = slope_of(times, x_mm, of_both), wy = slope_of(times, y_mm, of_both);
  thing.velocity_mm = Velocity{wx.value, wy.value, wx.sigma, wy.sigma};
}

std::vector<Followed> Follower::follow(const std::vector<Detection>& seen,
                                       const std::vector<UserPoint>& world, double at_s) {
  if (!std::isfinite(at_s) || (last_s_ && !(at_s > *last_s_)))
    fail_argument(fmt::format("a picture taken at {:g} s follows one of {:g} s; their times must grow", at_s,
                              last_s_.value_or(0)));
  if (!world.empty() && world.size() != seen.size())
    fail_argument(fmt::format("{} detections have {} places in the world", seen.size(), world.size()));
  last_s_ = at_s;
  lost_.clear();
  std::erase_if(things_, [&](const Thing& t) {
    const bool gone = at_s - t.places.back().at_s > settings_.lost_after_s;
    if (gone) lost_.push_back(t.identity);
    return gone;
  });

  struct Pair {
    size_t thing, detection;
    double apart;
  };
  std::vector<Pair> pairs;
  for (size_t t = 0; t < things_.size(); ++t)
    for (size_t s = 0; s < seen.size(); ++s) {
      if (things_[t].target != seen[s].target) continue;
      const double apart = distance(things_[t].expected(at_s), {seen[s].x, seen[s].y});
      if (apart <= settings_.reach_px) pairs.push_back({t, s, apart});
    }
  std::stable_sort(pairs.begin(), pairs.end(),
                   [](const Pair& a, const Pair& b) { return a.apart < b.apart; });
  std::vector<std::optional<size_t>> thing_of(seen.size());
  std::vector<bool> taken(things_.size(), false);
  for (const Pair& p : pairs)
    if (!thing_of[p.detection] && !taken[p.thing]) thing_of[p.detection] = p.thing, taken[p.thing] = true;

  std::vector<Followed> answers;
  for (size_t s = 0; s < seen.size(); ++s) {
    if (!thing_of[s]) {
      things_.push_back(
          {.identity = next_++, .target = seen[s].target, .places = {}, .velocity = {}, .velocity_mm = {}});
      thing_of[s] = things_.size() - 1;
    }
    Thing& thing = things_[*thing_of[s]];
    Place place{.at_s = at_s,
                .px = {seen[s].x, seen[s].y},
                .sigma_x = seen[s].sigma.x,
                .sigma_y = seen[s].sigma.y,
                .mm = {}};
    if (!world.empty()) place.mm = world[s];
    update(thing, place);
    answers.push_back({thing.identity, thing.pictures, thing.velocity, thing.velocity_mm});
  }
  return answers;
}

}  // namespace heron
