#include "edge_scan.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>

#include "heron/locate/names.hpp"
#include "locate/common/misses.hpp"

namespace heron {
namespace {

double noise_of_profile(const PreparedPicture& prepared, int lanes) {
  return std::max(0.05, prepared.noise_sigma(0) / std::sqrt(static_cast<double>(lanes)));
}

bool weaker(const ScanEdge& a, const ScanEdge& b) { return std::abs(a.contrast) < std::abs(b.contrast); }

}  // namespace

std::vector<Scan> scans_of(const EdgeSettings& s) {
  std::vector<Scan> scans;
  if (!s.arc.empty()) scans.push_back(s.fit == EdgeShape::circle ? Scan::fan(s.arc) : Scan::arc(s.arc));
  for (const auto& [numbers, what] : {std::pair{&s.band, "band"}, {&s.second, "second"}, {&s.third, "third"}})
    if (!numbers->empty()) scans.push_back(Scan::band(*numbers, what));
  return scans;
}

std::vector<LineEdge> taught_lines(const EdgeSettings& s) {
  std::vector<LineEdge> lines;
  for (size_t i = 0; i < s.taught.size(); ++i) {
    LineEdge line{.edge = {.at = s.taught[i]}};
    line.edge.sigma = s.taught_sigmas[i];
    if (i < s.slopes.size()) line.slope = s.slopes[i], line.slope_sigma = s.slope_sigmas[i];
    lines.push_back(line);
  }
  return lines;
}

void require_inside(const std::vector<Scan>& scans, int width, int height, const std::string& name) {
  for (const Scan& scan : scans)
    if (!scan.inside(width, height))
      fail_argument(
          fmt::format("a band of '{}' reaches outside the picture of {} x {} pixels; it must lie inside",
                      name, width, height));
}

double edge_threshold(const EdgeSettings& s, const PreparedPicture& prepared, int lanes) {
  return s.threshold > 0 ? s.threshold : std::max(4.0, 6 * noise_of_profile(prepared, lanes));
}

bool is_meant(const ScanEdge& e, EdgeChange change) {
  return change == EdgeChange::either || change == EdgeChange::learn ||
         (e.contrast > 0) == (change == EdgeChange::rising);
}

std::vector<ScanEdge> ordered(std::vector<ScanEdge> all, EdgeOrder order, int every) {
  if (all.empty()) return all;
  switch (order) {
    case EdgeOrder::first:
      return {all.front()};
    case EdgeOrder::last:
      return {all.back()};
    case EdgeOrder::strongest:
      return {*std::max_element(all.begin(), all.end(), weaker)};
    case EdgeOrder::all:
      break;
  }
  std::vector<ScanEdge> kept;
  for (size_t i = 0; i < all.size(); i += static_cast<size_t>(every)) kept.push_back(all[i]);
  return kept;
}

ScannedProfile scanned_profile(const PreparedPicture& prepared, const Scan& scan,
                               const std::vector<Strip>& strips, const EdgeSettings& s, Others others) {
  ScannedProfile result;
  const std::vector<double> profile = profile_of(strips);
  const double noise = noise_of_profile(prepared, scan.lanes()),
               threshold = edge_threshold(s, prepared, scan.lanes());
  const std::vector<double> strength = strength_along(profile, scan.round());
  const double weakest = std::min(threshold, std::max(2.0, 3 * noise));
  const ProfileSearch search{.profile = &profile,
                             .round = scan.round(),
                             .least = others == Others::leave_out ? threshold : weakest,
                             .noise = noise,
                             .strength = &strength,
                             .beside = weakest};
  const auto edges = edges_along({&search, 1});
  for (const ScanEdge& e : edges[0]) {
    if (is_guess(e)) continue;
    (std::abs(e.contrast) >= threshold && is_meant(e, s.change) ? result.meant : result.others).push_back(e);
  }
  std::stable_sort(result.others.begin(), result.others.end(),
                   [](const ScanEdge& a, const ScanEdge& b) { return weaker(b, a); });
  result.profile = {.name = {},
                    .brightness = profile,
                    .strength = strength,
                    .threshold = threshold,
                    .edges = {},
                    .path = {}};
  result.profile.path.reserve(static_cast<size_t>(scan.steps() + 1) / 2);
  for (int k = 0; k < scan.steps(); k += 2) result.profile.path.push_back(scan.at(k * scan.per_step(), 0));
  return result;
}

Scanned scanned(const PreparedPicture& prepared, const Scan& scan, const EdgeSettings& s, const char* name,
                Others others) {
  const std::vector<Strip> strips = strips_of(prepared.level(0), scan);
  ScannedProfile met = scanned_profile(prepared, scan, strips, s, others);
  Scanned result{.profile = std::move(met.profile), .meant = {}, .others = std::move(met.others)};
  result.profile.name = name;
  for (const ScanEdge& e : ordered(std::move(met.meant), s.order, s.every)) {
    result.meant.push_back(line_through(scan, strips, e, std::max(prepared.noise_sigma(0), 0.3)));
    // Steps are a pixel long along the middle line, or nearly: an arc has whole steps.
    ScanEdge& edge = result.meant.back().edge;
    edge.at *= scan.per_step(), edge.sigma *= scan.per_step();
  }
  for (const LineEdge& l : result.meant) result.profile.edges.push_back(l.edge.at / scan.per_step());
  return result;
}

void tell_others(const Scan& scan, const Scanned& met, EdgeChange change, FindResult& find_result) {
  if (met.others.empty() && met.meant.empty()) {  // nothing that could be an edge: the strongest change
    const auto& strength = met.profile.strength;
    const auto most = std::max_element(strength.begin(), strength.end(),
                                       [](double a, double b) { return std::abs(a) < std::abs(b); });
    const Point2 at = scan.at(static_cast<double>(most - strength.begin()) * scan.per_step(), 0);
    find_result.misses.push_back({.x = at.x, .y = at.y, .has_angle = scan.is_arc()});
    find_result.misses.back().reasons.push_back(
        too_low(limit::contrast, std::abs(*most), met.profile.threshold));
  }
  for (const ScanEdge& e : met.others) {
    if (find_result.misses.size() >= max_misses) return;
    const Point2 at = scan.at(e.at * scan.per_step(), 0);
    Miss miss{.x = at.x, .y = at.y, .has_angle = scan.is_arc()};
    if (std::abs(e.contrast) < met.profile.threshold)
      miss.reasons.push_back(too_low(limit::contrast, std::abs(e.contrast), met.profile.threshold));
    if (!is_meant(e, change))
      miss.reasons.push_back(
          {limit::change, e.contrast, change == EdgeChange::rising ? "rising" : "falling"});
    find_result.misses.push_back(std::move(miss));
  }
}

Contour trace_of(const Scan& scan, const LineEdge& l) {
  const double half = 0.5 * scan.lanes();
  return {.points = {scan.at(l.edge.at - half * l.slope, -half), scan.at(l.edge.at + half * l.slope, half)},
          .closed = false};
}

}  // namespace heron
