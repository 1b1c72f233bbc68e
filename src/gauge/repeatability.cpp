#include "heron/gauge/repeatability.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <limits>

namespace heron {
namespace {

constexpr double same_place_px = 60;  // parts of a picture further apart are different ones

Repeatability finished(Repeatability r) {
  std::map<std::string, std::vector<double>> parts;
  double sum = 0, sigmas = 0;
  int with_sigma = 0;
  for (const RepeatedReading& v : r.readings) {
    parts[v.part].push_back(v.value), sum += v.value;
    if (v.sigma) sigmas += *v.sigma * *v.sigma, ++with_sigma;
  }
  const auto n = static_cast<double>(r.readings.size());
  r.parts = static_cast<int>(parts.size());
  if (r.readings.empty()) return r;
  r.mean = sum / n;
  if (with_sigma > 0) r.reported = std::sqrt(sigmas / with_sigma);
  double squares = 0, freedom = 0, of_means = 0, per_part = 0;
  std::map<std::string, double> means;
  for (const auto& [name, values] : parts) {
    double mean = 0;
    for (const double v : values) mean += v / static_cast<double>(values.size());
    for (const double v : values) squares += (v - mean) * (v - mean);
    freedom += static_cast<double>(values.size()) - 1, means[name] = mean;
    of_means += (mean - r.mean) * (mean - r.mean);
    per_part += 1 / static_cast<double>(values.size());
  }
  r.within = freedom > 0 ? std::sqrt(squares / freedom) : 0;
  if (parts.size() > 1) {
    // What the means scatter by beyond what repeating them does.
    const auto count = static_cast<double>(parts.size());
    r.between = std::sqrt(std::max(0.0, of_means / (count - 1) - r.within * r.within * per_part / count));
  }
  double most = -1;
  for (const RepeatedReading& v : r.readings)
    if (const double off = std::abs(v.value - means[v.part]); off > most) most = off, r.worst = v;
  if (r.limits.min && r.limits.max && *r.limits.max > *r.limits.min && r.within > 0) {
    const double tolerance = *r.limits.max - *r.limits.min;
    r.share_of_tolerance = 6 * r.within / tolerance, r.cg = 0.2 * tolerance / (6 * r.within);
  }
  return r;
}

}  // namespace

void RepeatabilityStudy::add(const Report& report, const std::string& group) {
  std::vector<Place>& places = places_[group];
  std::vector<std::string> names(report.parts.size());
  const bool alone = report.parts.size() == 1 && places.size() <= 1;
  for (size_t i = 0; i < report.parts.size(); ++i) {
    const Point2 at{report.parts[i].detection.x, report.parts[i].detection.y};
    const auto nearest = std::min_element(places.begin(), places.end(), [&](const Place& a, const Place& b) {
      return distance(a.at, at) < distance(b.at, at);
    });
    if (nearest != places.end() && (alone || distance(nearest->at, at) < same_place_px)) {
      names[i] = nearest->name;
    } else {
      names[i] = fmt::format("{} part {}", group, places.size() + 1);
      places.push_back({names[i], at});
    }
  }
  for (const Reading& r : report.readings) {
    if (r.fixed) continue;
    auto gauge = std::find_if(gauges_.begin(), gauges_.end(),
                              [&](const Repeatability& g) { return g.gauge == r.gauge; });
    if (gauge == gauges_.end())
      gauge = gauges_.insert(gauge, {.gauge = r.gauge, .unit = r.unit, .limits = r.limits});
    if (!r.value) {
      ++gauge->unmeasured;
      continue;
    }
    gauge->unit = r.unit;
    gauge->readings.push_back({r.part ? names[*r.part] : group, report.picture, *r.value, r.sigma});
  }
}

std::vector<Repeatability> RepeatabilityStudy::results(const std::map<std::string, double>& known) const {
  std::vector<Repeatability> all;
  for (const Repeatability& g : gauges_) all.push_back(finished(g));
  for (const auto& [name, size] : known) {
    const auto gauge = std::find_if(
        all.begin(), all.end(), [&, &wanted = name](const Repeatability& g) { return g.gauge == wanted; });
    if (gauge == all.end())
      fail_argument(fmt::format("there is no reading of a gauge '{}' whose size is known", name));
    if (!gauge->cg || gauge->parts != 1) continue;
    const double tolerance = *gauge->limits.max - *gauge->limits.min;
    gauge->cgk = (0.1 * tolerance - std::abs(gauge->mean - size)) / (3 * gauge->within);
  }
  return all;
}

}  // namespace heron
