#include "arrivals.hpp"

#include <fmt/format.h>

#include <algorithm>

namespace heron {

void Arrivals::follow(Report& report, double at_s, bool timed) {
  std::vector<Detection> seen;
  std::vector<UserPoint> places;  // those of the robot: velocities are wanted in its frame
  std::vector<size_t> index;
  for (size_t i = 0; i < report.parts.size(); ++i) {
    const ReportedPart& part = report.parts[i];
    if (!part.robot) continue;
    seen.push_back(part.detection), index.push_back(i);
    seen.back().edges.clear();
    places.emplace_back(part.robot->position().plain());
  }
  const std::vector<Followed> followed = follower_.follow(seen, places, at_s);
  for (const int lost : follower_.lost()) told_.erase(lost), pictures_.erase(lost);
  for (size_t i = 0; i < index.size(); ++i) {
    const Followed& f = followed[i];
    PartTrack track{.identity = f.identity};
    if (const auto told = told_.find(f.identity); told != told_.end()) track.told_in = told->second;
    if (const auto& v = f.velocity_mm; v && timed) {
      track.velocity = Point2{v->x, v->y};
      if (v->sigma_x && v->sigma_y) track.sigma = Point2{*v->sigma_x, *v->sigma_y};
    }
    pictures_[f.identity] = f.pictures;
    report.parts[index[i]].track = track;
  }
}

/// Why a part that was never sent is not sent now; empty when it has arrived.
std::string Arrivals::not_yet(const ReportedPart& part, const Report& report) const {
  const int pictures = pictures_.at(part.track->identity);
  if (pictures < settings_.steady)
    return fmt::format("it was seen in {} of {} pictures in which it must be seen", pictures,
                       settings_.steady);
  for (const ReportedPart& other : report.parts) {
    if (!other.track || other.track->identity >= part.track->identity) continue;
    const double apart = distance(part.robot->position(), other.robot->position());
    if (apart < settings_.apart_mm)
      return fmt::format("it lies {:.1f} mm from one that came before it, needed {:g}", apart,
                         settings_.apart_mm);
  }
  return {};
}

bool Arrivals::mark(Report& report, std::optional<double> time_s) {
  constexpr double untimed = 0.1, tick = 1e-4;  // the latter for a clock that stands still or goes back
  if (const int setup = report.setup ? report.setup->number : 0; setup != setup_) {
    setup_ = setup, follower_ = Follower(settings_.follow);  // another product: all of it is new
    told_.clear(), pictures_.clear(), last_s_.reset();
  }
  double at_s = time_s.value_or(last_s_ ? *last_s_ + untimed : 0);
  if (last_s_ && at_s <= *last_s_) at_s = *last_s_ + tick;
  last_s_ = at_s;
  follow(report, at_s, time_s.has_value());
  const bool too_soon = result_s_ && at_s - *result_s_ < settings_.apart_s && at_s >= *result_s_;
  std::vector<int> arrived;
  for (ReportedPart& part : report.parts) {
    if (!part.track || !part.withheld.empty()) continue;
    part.withheld = part.track->told_in > 0 ? fmt::format("it was sent in result {}", part.track->told_in)
                                            : not_yet(part, report);
    if (part.withheld.empty()) arrived.push_back(part.track->identity);
  }
  if (arrived.empty() || too_soon) return false;
  for (const int identity : arrived) told_[identity] = report.number;
  result_s_ = at_s;
  return true;
}

}  // namespace heron
