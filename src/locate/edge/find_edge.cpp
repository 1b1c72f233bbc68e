#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <limits>

#include "edge_part.hpp"
#include "edge_scan.hpp"
#include "heron/base/work.hpp"
#include "heron/locate/names.hpp"
#include "locate/common/find_options.hpp"
#include "locate/common/misses.hpp"
#include "scan_circle.hpp"

namespace heron {
namespace {

Detection detection_of(const Scan& scan, const LineEdge& l, const std::string& name) {
  const Point2 at = scan.at(l.edge.at, 0), u = scan.direction(l.edge.at);
  Detection s{.target = name, .x = at.x, .y = at.y};
  s.score = 100 * l.seen, s.contrast = std::abs(l.edge.contrast);
  // Along the edge nothing is known.
  if (std::abs(u.y) < 1e-9) s.sigma.x = l.edge.sigma;
  if (std::abs(u.x) < 1e-9) s.sigma.y = l.edge.sigma;
  s.has_angle = scan.is_arc();
  if (s.has_angle) {  // where it lies around the centre
    const Point2 out = at - scan.centre();
    s.angle = direction(out).wrapped();
    if (norm(out) > 0) s.sigma.angle = radians(l.edge.sigma / norm(out));
  }
  s.measurements = {{measurement::along, scan.told(l.edge.at)},
                    {measurement::change, l.edge.contrast},
                    {measurement::edge_angle, radians(-std::atan(l.slope)).degrees()},
                    {measurement::edge_angle_sigma, radians(l.slope_sigma).degrees()},
                    {measurement::edge_sigma, l.edge.sigma}};
  s.contours = {{.points = scan.border(), .closed = true, .seen = false}, trace_of(scan, l)};
  return s;
}

/// By how many equal turns a ring's profile comes again: the least shift at which it is nearly as much like
/// itself as at any, past the first one at which it is not; 1 where it never is.
int repeats_of(const std::vector<double>& profile) {
  const size_t n = profile.size();
  double mean = 0, power = 0;
  for (const double v : profile) mean += v / static_cast<double>(n);
  for (const double v : profile) power += (v - mean) * (v - mean);
  if (n < 12 || power < 1e-9) return 1;
  std::vector<double> alike(n / 2 + 1);
  for (size_t shift = 0; shift < alike.size(); ++shift) {
    double sum = 0;
    for (size_t i = 0; i < n; ++i) sum += (profile[i] - mean) * (profile[(i + shift) % n] - mean);
    alike[shift] = sum / power;
  }
  size_t dip = 1;
  while (dip < alike.size() && alike[dip] > 0.2) ++dip;
  if (dip >= alike.size()) return 1;
  const double most = *std::max_element(alike.begin() + static_cast<ptrdiff_t>(dip), alike.end());
  if (most < 0.5) return 1;
  size_t period = dip;
  while (alike[period] < 0.85 * most) ++period;
  while (period + 1 < alike.size() && alike[period + 1] > alike[period]) ++period;
  return static_cast<int>(std::lround(static_cast<double>(n) / static_cast<double>(period)));
}

FindResult find_edges(const EdgeSettings& s, const Scan& scan, const PreparedPicture& prepared,
                      const FindOptions& options, Explain explain) {
  FindResult result;
  const Scanned met = scanned(prepared, scan, s, scan.is_arc() ? "arc" : "band");
  const int repeats = scan.round() ? repeats_of(met.profile.brightness) : 0;
  for (const LineEdge& l : met.meant) {
    Detection one = detection_of(scan, l, s.name);
    if (scan.round()) one.measurements.push_back({measurement::repeats, static_cast<double>(repeats)});
    take(result, std::move(one), options);
  }
  if (explain == Explain::always) tell_others(scan, met, s.change, result);
  result.profiles.push_back(met.profile);
  return result;
}

FindResult find_circle(const EdgeSettings& s, const Scan& fan, const PreparedPicture& prepared,
                       const FindOptions& options, Explain explain) {
  FindResult result;
  const CircleFit circle = circle_by_scans(prepared, fan, s);
  const Scan own = circle.determined
                       ? fan.about(circle.centre, std::max(0.5, circle.radius - 20), circle.radius + 20)
                       : fan;
  EdgeSettings every = s;
  every.order = EdgeOrder::all, every.every = 1;
  Scanned met = scanned(prepared, own, every, "circle");
  if (circle.determined)
    std::erase_if(met.profile.edges,
                  [&](double at) { return std::abs(at - std::min(20.0, circle.radius - 0.5)) > 2; });
  result.profiles.push_back(met.profile);
  if (!circle.determined) {
    if (explain != Explain::never) {
      Miss none{.x = fan.centre().x, .y = fan.centre().y, .has_angle = false};
      none.reasons.push_back({limit::circle, 0, "one that four sectors of the arc agree on"});
      result.misses.push_back(std::move(none));
      tell_others(fan, met, s.change, result);
    }
    return result;
  }
  Detection one{.target = s.name, .x = circle.centre.x, .y = circle.centre.y};
  one.has_angle = false;
  one.score = 100 * circle.seen, one.contrast = std::abs(circle.contrast);
  one.scale = circle.radius / s.taught[0];
  const double sigma = std::sqrt(circle.covariance(2, 2));
  one.sigma = {std::sqrt(circle.covariance(0, 0)),
               std::sqrt(circle.covariance(1, 1)),
               {},
               std::hypot(sigma, one.scale * s.taught_sigmas[0]) / s.taught[0]};
  one.measurements = {{measurement::radius, circle.radius},
                      {measurement::radius_sigma, sigma},
                      {measurement::diameter, 2 * circle.radius},
                      {measurement::scatter, circle.scatter},
                      {measurement::change, circle.contrast}};
  one.rim = Ellipse{.centre = circle.centre, .radius = circle.radius};
  one.lengths = {{measurement::diameter, circle.centre - Point2{circle.radius, 0},
                  circle.centre + Point2{circle.radius, 0}, sigma}};
  one.contours = {{.points = fan.border(), .closed = true, .seen = false}};
  const auto place = [&](double sector) {
    const double turned = sector / static_cast<double>(circle.sectors.size());
    return own.at(own.length() - (own.outer() - circle.radius), (turned - 0.5) * own.width());
  };
  for (size_t i = 0; i < circle.sectors.size(); ++i) {
    Contour piece{.points = {}, .closed = false, .seen = circle.sectors[i]};
    for (int k = 0; k <= 4; ++k) piece.points.push_back(place(static_cast<double>(i) + 0.25 * k));
    one.contours.push_back(std::move(piece));
  }
  take(result, std::move(one), options);
  return result;
}

/// The edge of each of several bands; fewer where a band has none, which is then a miss.
std::vector<LineEdge> one_edge_each(const std::vector<Scan>& scans, const EdgeSettings& s,
                                    const PreparedPicture& prepared, Explain explain, FindResult& result,
                                    Work* work) {
  constexpr const char* names[] = {"band", "second", "third"};
  std::vector<LineEdge> edges;
  for (size_t i = 0; i < scans.size(); ++i) {
    if (work && work->stopped()) {
      result.complete = false;
      break;
    }
    const Scanned met = scanned(prepared, scans[i], s, names[i]);
    result.profiles.push_back(met.profile);
    if (!met.meant.empty())
      edges.push_back(met.meant[0]);
    else if (explain != Explain::never && result.misses.empty())
      tell_others(scans[i], met, s.change, result);
  }
  return edges;
}

void tell_bands(Detection& one, const std::vector<Scan>& scans, const std::vector<LineEdge>& edges,
                const std::vector<double>& taught) {
  one.score = 100;
  for (size_t i = 0; i < scans.size(); ++i) {
    one.score = std::min(one.score, 100 * edges[i].seen);
    one.contrast = std::max(one.contrast, std::abs(edges[i].edge.contrast));
    one.measurements.push_back({measurement::shift(i + 1), edges[i].edge.at - taught[i]});
    one.contours.push_back({.points = scans[i].border(), .closed = true, .seen = false});
    one.contours.push_back(trace_of(scans[i], edges[i]));
  }
}

}  // namespace

FindResult find(const EdgeTarget& target, const PreparedPicture& prepared, const FindOptions& options,
                Explain explain, Work* work) {
  require_valid(options, 1);
  const EdgeSettings& s = target.settings();
  const std::vector<Scan> scans = scans_of(s);
  require_inside(scans, prepared.width(), prepared.height(), s.name);
  if (s.fit == EdgeShape::circle) return find_circle(s, scans[0], prepared, options, explain);
  if (scans.size() == 1) return find_edges(s, scans[0], prepared, options, explain);
  FindResult result;
  const std::vector<LineEdge> edges = one_edge_each(scans, s, prepared, explain, result, work);
  if (edges.size() < scans.size()) return result;
  const Point2 origin = target.taught().origin + Point2{s.corner[0], s.corner[1]};
  Detection one{.target = s.name};
  const std::vector<LineEdge> taught = taught_lines(s);
  if (s.fit == EdgeShape::corner) {
    const CornerFit corner = corner_of(scans, edges, taught);
    if (!corner.determined) {
      result.misses.push_back({.x = origin.x, .y = origin.y});
      result.misses.back().reasons.push_back({limit::opening, 0, "lines that are not parallel"});
      return result;
    }
    // An origin that was set beside the corner turns with it.
    const Point2 taught_at = corner_of(scans, taught, taught).at,
                 beside = rotated(origin - taught_at, radians(corner.turn));
    one.x = corner.at.x + beside.x, one.y = corner.at.y + beside.y;
    one.angle = radians(corner.turn).wrapped();
    const double swing = norm(beside) * corner.turn_sigma;
    one.sigma = {std::hypot(std::sqrt(corner.covariance(0, 0)), swing),
                 std::hypot(std::sqrt(corner.covariance(1, 1)), swing), radians(corner.turn_sigma), 0};
    one.measurements = {{measurement::opening, radians(corner.opening).degrees()},
                        {measurement::opening_sigma, radians(corner.opening_sigma).degrees()}};
    const Eigen::Matrix2d& c = corner.covariance;
    one.points = {{"corner", corner.at, {std::sqrt(c(0, 0)), std::sqrt(c(1, 1))}, taught_at - origin}};
    tell_bands(one, scans, edges, s.taught);
    for (size_t i = 0; i < 2; ++i)
      one.contours.push_back(
          {.points = {scans[i].at(edges[i].edge.at, 0), corner.at}, .closed = false, .seen = false});
    take(result, std::move(one), options);
    return result;
  }
  const PartFit fit = part_by_edges(scans, edges, taught, origin);
  if (!fit.determined) {
    result.misses.push_back({.x = origin.x + fit.shift.x, .y = origin.y + fit.shift.y});
    result.misses.back().reasons.push_back({limit::angle, radians(fit.turn).degrees(), "-34..34"});
    return result;
  }
  one.x = origin.x + fit.shift.x, one.y = origin.y + fit.shift.y;
  one.has_angle = scans.size() > 2;
  one.angle = radians(fit.turn);
  one.sigma = {std::sqrt(fit.covariance(0, 0)), std::sqrt(fit.covariance(1, 1)),
               one.has_angle ? radians(std::sqrt(fit.covariance(2, 2))) : Angle{}, 0};
  tell_bands(one, scans, edges, s.taught);
  take(result, std::move(one), options);
  return result;
}

}  // namespace heron
