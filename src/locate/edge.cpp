#include "heron/locate/edge.hpp"

#include <fmt/format.h>

#include <Eigen/Dense>
#include <algorithm>
#include <cmath>
#include <limits>

#include "limits.hpp"
#include "misses.hpp"
#include "scan.hpp"
#include "scan_line.hpp"

namespace heron {
namespace {

constexpr double infinite = std::numeric_limits<double>::infinity();

std::vector<Scan> scans_of(const EdgeSettings& s) {
  std::vector<Scan> scans;
  if (!s.arc.empty()) scans.push_back(Scan::arc(s.arc));
  for (const auto& [numbers, what] : {std::pair{&s.band, "band"}, {&s.second, "second"}, {&s.third, "third"}})
    if (!numbers->empty()) scans.push_back(Scan::band(*numbers, what));
  return scans;
}

double noise_of_profile(const Survey& survey, const Scan& scan) {
  return std::max(0.05, survey.noise_sigma(0) / std::sqrt(static_cast<double>(scan.lanes())));
}

double threshold_of(const EdgeSettings& s, double profile_noise) {
  return s.threshold > 0 ? s.threshold : std::max(4.0, 6 * profile_noise);
}

bool is_meant(const ScanEdge& e, EdgeChange change) {
  return change == EdgeChange::either || change == EdgeChange::learn ||
         (e.contrast > 0) == (change == EdgeChange::rising);
}

/// What a scan met, all of it and what of it is meant.
struct Scanned {
  ScanProfile profile;
  std::vector<LineEdge> meant;
  std::vector<ScanEdge> others;  ///< met and turned away: too weak or of the other sense
};

Scanned scanned(const Survey& survey, const Scan& scan, const EdgeSettings& s, const char* name) {
  Scanned result;
  const Image<uint8_t>& picture = survey.level(0);
  const auto profile = profile_along(picture, scan, 0, scan.lanes());
  const double noise = noise_of_profile(survey, scan), threshold = threshold_of(s, noise);
  const std::vector<ScanEdge> all =
      edges_along(profile, scan.round(), std::min(threshold, std::max(2.0, 3 * noise)), noise);
  std::vector<ScanEdge> meant;
  for (const ScanEdge& e : all)
    (std::abs(e.contrast) >= threshold && is_meant(e, s.change) ? meant : result.others).push_back(e);
  const auto stronger = [](const ScanEdge& a, const ScanEdge& b) {
    return std::abs(a.contrast) < std::abs(b.contrast);
  };
  if (!meant.empty()) switch (s.order) {
      case EdgeOrder::first:
        meant = {meant.front()};
        break;
      case EdgeOrder::last:
        meant = {meant.back()};
        break;
      case EdgeOrder::strongest:
        meant = {*std::max_element(meant.begin(), meant.end(), stronger)};
        break;
      case EdgeOrder::all: {
        std::vector<ScanEdge> kept;
        for (size_t i = 0; i < meant.size(); i += static_cast<size_t>(s.every)) kept.push_back(meant[i]);
        meant = kept;
      }
    }
  for (const ScanEdge& e : meant) {
    result.meant.push_back(line_through(picture, scan, e, std::max(survey.noise_sigma(0), 0.3)));
    // Steps are a pixel long along the middle line, or nearly: an arc has whole steps.
    ScanEdge& edge = result.meant.back().edge;
    edge.at *= scan.per_step(), edge.sigma *= scan.per_step();
  }
  std::stable_sort(result.others.begin(), result.others.end(), [](const ScanEdge& a, const ScanEdge& b) {
    return std::abs(a.contrast) > std::abs(b.contrast);
  });
  result.profile = {.name = name,
                    .brightness = profile,
                    .strength = strength_along(profile, scan.round()),
                    .threshold = threshold,
                    .edges = {},
                    .path = {}};
  for (const LineEdge& l : result.meant) result.profile.edges.push_back(l.edge.at / scan.per_step());
  for (int k = 0; k < scan.steps(); k += 2) result.profile.path.push_back(scan.at(k * scan.per_step(), 0));
  return result;
}

Trace trace_of(const Scan& scan, const LineEdge& l) {
  const double half = 0.5 * scan.lanes();
  return {.points = {scan.at(l.edge.at - half * l.slope, -half), scan.at(l.edge.at + half * l.slope, half)},
          .closed = false};
}

Sighting sighting_of(const Scan& scan, const LineEdge& l, const std::string& name) {
  const Point2 at = scan.at(l.edge.at, 0), u = scan.direction(l.edge.at);
  Sighting s{.target = name, .x = at.x, .y = at.y};
  s.score = 100 * l.seen, s.contrast = std::abs(l.edge.contrast);
  // Along the edge nothing is known.
  s.sigma.x = std::abs(u.y) < 1e-9 ? l.edge.sigma : infinite;
  s.sigma.y = std::abs(u.x) < 1e-9 ? l.edge.sigma : infinite;
  s.has_angle = scan.is_arc();
  if (s.has_angle) s.angle = radians(std::atan2(u.y, u.x)).wrapped();
  s.figures = {{"along", scan.told(l.edge.at)},
               {"change", l.edge.contrast},
               {"edge_angle", radians(-std::atan(l.slope)).degrees()},
               {"edge_angle_sigma", radians(l.slope_sigma).degrees()},
               {"edge_sigma", l.edge.sigma}};
  s.traces = {{.points = scan.border(), .closed = true, .seen = false}, trace_of(scan, l)};
  return s;
}

/// The part that several edges locate: shifted, and with three turned, so that each taught edge lies where it
/// was met.
struct PartFit {
  Point2 shift;
  double turn = 0;
  Eigen::Matrix3d covariance = Eigen::Matrix3d::Zero();
  bool determined = false;
};

PartFit part_by_edges(const std::vector<Scan>& scans, const std::vector<LineEdge>& edges,
                      const std::vector<double>& taught, Point2 origin) {
  const bool turns = scans.size() > 2;
  PartFit fit;
  for (int round = 0; round < 6; ++round) {
    Eigen::Matrix3d normal = Eigen::Matrix3d::Zero();
    Eigen::Vector3d right = Eigen::Vector3d::Zero();
    for (size_t i = 0; i < scans.size(); ++i) {
      const Point2 u = scans[i].direction(taught[i]), was = scans[i].at(taught[i], 0),
                   met = scans[i].at(edges[i].edge.at, 0);
      const Angle turn = radians(fit.turn);
      const Point2 n = rotated(u, turn), lever = rotated(was - origin, turn);
      // How far the taught edge, moved, lies before the one met, along its own normal.
      const double residual = dot(n, met - (origin + fit.shift + lever));
      const double arm = cross(lever, n) + cross(n, met - (origin + fit.shift + lever));
      const Eigen::Vector3d j(n.x, n.y, turns ? arm : 0);
      const double w = 1 / std::max(edges[i].edge.sigma * edges[i].edge.sigma, 1e-8);
      normal += w * j * j.transpose(), right += w * residual * j;
    }
    if (!turns) normal(2, 2) = 1;
    Eigen::FullPivLU<Eigen::Matrix3d> solver(normal);
    if (!solver.isInvertible()) return fit;
    const Eigen::Vector3d change = solver.solve(right);
    fit.shift += Point2{change[0], change[1]}, fit.turn += turns ? change[2] : 0;
    fit.covariance = normal.inverse();
  }
  fit.determined = std::abs(fit.turn) < 0.6;
  return fit;
}

void require_valid(const EdgeSettings& s) {
  if (!s.arc.empty() && !s.band.empty()) fail_argument("an edge has either a band or an arc, not both");
  if (s.every < 1 || s.every > 10000) fail_argument(fmt::format("every {} must be 1 or more", s.every));
  if (!(s.threshold >= 0 && s.threshold <= 255))
    fail_argument(fmt::format("threshold {:g} must be from 1 to 255 grey levels, or 0 to follow the noise",
                              s.threshold));
  const bool several = !s.second.empty();
  if (!s.third.empty() && !several) fail_argument("a third band needs a second one");
  if (several && s.order == EdgeOrder::all)
    fail_argument("several bands locate one part by one edge each; set order to first, last or strongest");
  if (several && !s.arc.empty()) fail_argument("several bands must be straight");
}

void require_inside(const std::vector<Scan>& scans, int width, int height, const std::string& name) {
  for (const Scan& scan : scans)
    if (!scan.inside(width, height))
      fail_argument(
          fmt::format("a band of '{}' reaches outside the picture of {} x {} pixels; it must lie inside",
                      name, width, height));
}

}  // namespace

const KindInfo& EdgeTarget::info() {
  static const KindInfo kind{
      .word = "edge", .what = "edges met along a band or around an arc", .limits = {"least score", "count"}};
  return kind;
}

const std::vector<SettingRow<EdgeSettings>>& EdgeTarget::rows() {
  static const std::vector<SettingRow<EdgeSettings>> rows{
      {"band", &EdgeSettings::band,
       "x, y, length, width, angle of a band in the picture; the region's box unless given"},
      {"second", &EdgeSettings::second, "a further band: two locate a part that shifts"},
      {"third", &EdgeSettings::third, "a third band: its small turn as well"},
      {"arc", &EdgeSettings::arc, "x, y, inner radius, outer radius, start, turn (degrees; 360 for a ring)"},
      {"change",
       SettingWord<EdgeSettings>{[](const EdgeSettings& s) { return static_cast<int>(s.change); },
                                 [](EdgeSettings& s, int i) { s.change = static_cast<EdgeChange>(i); },
                                 {"learn", "rising", "falling", "either"}},
       "which change along the scan: rising from dark to bright, falling, either; learn takes the band's"},
      {"order",
       SettingWord<EdgeSettings>{[](const EdgeSettings& s) { return static_cast<int>(s.order); },
                                 [](EdgeSettings& s, int i) { s.order = static_cast<EdgeOrder>(i); },
                                 {"first", "last", "strongest", "all"}},
       "which edges: first, last, strongest or all"},
      {"every", &EdgeSettings::every, "of all edges every so manyth"},
      {"threshold", &EdgeSettings::threshold, "grey levels from side to side; 0 follows the noise"},
      {"taught", &EdgeSettings::taught, "where the edges lay at teaching, pixels along each scan"},
      {"corner", &EdgeSettings::corner, "of the taught pixels in the camera's picture"}};
  return rows;
}

EdgeTarget EdgeTarget::taught_from(const TeachingPicture& from, EdgeSettings s) {
  TaughtPicture taught = cut_out(from, s.origin);
  const Box box = from.region.bounds();
  if (s.arc.empty() && s.band.empty()) {
    // Along that side of the box where the stronger edge is met.
    const Point2 c = box.centre();
    const std::vector<double> along_x{c.x, c.y, box.width, box.height, 0},
        along_y{c.x, c.y, box.height, box.width, 90};
    const auto strongest = [&](const std::vector<double>& band) {
      if (band[2] < 6) return 0.0;
      const Scan scan = Scan::band(band, "band");
      double most = 0;
      for (const double v :
           strength_along(profile_along(Image<uint8_t>(from.grey), scan, 0, scan.lanes()), false))
        most = std::max(most, std::abs(v));
      return most;
    };
    s.band = strongest(along_y) > strongest(along_x) ? along_y : along_x;
  }
  require_valid(s);
  const std::vector<Scan> scans = scans_of(s);
  require_inside(scans, from.grey.width(), from.grey.height(), s.name);
  const Survey survey{Image<uint8_t>(from.grey)};
  std::vector<LineEdge> edges;
  s.taught.clear();
  if (s.change == EdgeChange::learn && scans.size() == 1) {
    EdgeSettings any = s;
    any.change = EdgeChange::either;
    if (any.order == EdgeOrder::all) any.order = EdgeOrder::strongest;
    const Scanned first = scanned(survey, scans[0], any, "band");
    if (!first.meant.empty() && s.order != EdgeOrder::all)
      s.change = first.meant[0].edge.contrast > 0 ? EdgeChange::rising : EdgeChange::falling;
  }
  if (s.change == EdgeChange::learn) s.change = EdgeChange::either;
  for (size_t i = 0; i < scans.size(); ++i) {
    const Scanned met = scanned(survey, scans[i], s, "band");
    if (met.meant.empty())
      fail_argument(fmt::format(
          "teach: no edge of at least {:.3g} grey levels in band {}; lower --threshold, or move the "
          "band across an edge",
          met.profile.threshold, i + 1));
    edges.push_back(met.meant[0]);
    s.taught.push_back(met.meant[0].edge.at);
  }
  const Point2 corner = s.origin.value_or(box.centre()) - taught.origin;
  s.corner = {corner.x, corner.y};
  if (!s.origin) {
    // Where the edges are: the first, or where two bands cross.
    Point2 origin = scans[0].at(s.taught[0], 0);
    if (scans.size() > 1) {
      const Point2 n0 = scans[0].direction(0), n1 = scans[1].direction(0), p1 = scans[1].at(s.taught[1], 0);
      const double det = cross(n0, n1);
      if (std::abs(det) > 0.05) {
        const double a = dot(n0, origin), b = dot(n1, p1);
        origin = {(a * n1.y - b * n0.y) / det, (b * n0.x - a * n1.x) / det};
      }
    }
    taught.origin = origin - corner;
  }
  if (scans.size() > 1 && !part_by_edges(scans, edges, s.taught, taught.origin + corner).determined)
    fail_argument(scans.size() == 2
                      ? "teach: both bands scan along one direction, so the part would slide across it; turn "
                        "one of them"
                      : "teach: the three edges do not fix a turn: two of them must be parallel and apart");
  return {std::move(taught), std::move(s)};
}

EdgeTarget::EdgeTarget(TaughtPicture taught, EdgeSettings settings)
    : taught_(std::move(taught)), settings_(std::move(settings)) {
  require_valid(settings_);
  heron::require_valid(settings_.limits, 1);
  const size_t count = scans_of(settings_).size();
  if (count == 0) fail_argument("an edge needs a band or an arc");
  if (settings_.taught.size() != count || settings_.corner.size() != 2)
    fail_argument(fmt::format("'{}' lacks where its edges were taught; teach it again", settings_.name));
}

std::vector<Figure> EdgeTarget::facts() const {
  std::vector<Figure> facts;
  const std::vector<Scan> scans = scans_of(settings_);
  for (size_t i = 0; i < scans.size(); ++i)
    facts.push_back(
        {scans.size() == 1 ? "along" : fmt::format("along.{}", i + 1), scans[i].told(settings_.taught[i])});
  return facts;
}

std::vector<Trace> EdgeTarget::traces() const {
  std::vector<Trace> traces;
  const Point2 corner{settings_.corner[0], settings_.corner[1]};
  const std::vector<Scan> scans = scans_of(settings_);
  for (size_t i = 0; i < scans.size(); ++i) {
    traces.push_back({.points = scans[i].border(), .closed = true, .seen = false});
    traces.push_back(trace_of(scans[i], {.edge = {.at = settings_.taught[i]}}));
  }
  for (Trace& t : traces)
    for (Point2& p : t.points) p = p - corner;
  return traces;
}

Findings find(const EdgeTarget& target, const Survey& survey, const FindLimits& limits, Explain, Work*) {
  require_valid(limits, 1);
  const EdgeSettings& s = target.settings();
  const std::vector<Scan> scans = scans_of(s);
  require_inside(scans, survey.width(), survey.height(), s.name);
  constexpr const char* names[] = {"band", "second", "third"};
  Findings findings;
  std::vector<Scanned> met;
  for (size_t i = 0; i < scans.size(); ++i) {
    met.push_back(scanned(survey, scans[i], s, scans[i].is_arc() ? "arc" : names[i]));
    findings.profiles.push_back(met.back().profile);
  }
  const auto tell_others = [&](size_t i) {
    for (const ScanEdge& e : met[i].others) {
      if (findings.misses.size() >= most_misses) return;
      const Point2 at = scans[i].at(e.at * scans[i].per_step(), 0);
      Miss miss{.x = at.x, .y = at.y, .has_angle = scans[i].is_arc()};
      if (std::abs(e.contrast) < met[i].profile.threshold)
        miss.limits.push_back(too_low("contrast", std::abs(e.contrast), met[i].profile.threshold));
      if (!is_meant(e, s.change))
        miss.limits.push_back({"change", e.contrast, s.change == EdgeChange::rising ? "rising" : "falling"});
      findings.misses.push_back(std::move(miss));
    }
  };
  const auto take = [&](Sighting one) {
    std::vector<LimitMissed> missed;
    if (one.score < limits.least_score) missed.push_back(too_low("score", one.score, limits.least_score));
    if (missed.empty() && limits.count > 0 && static_cast<int>(findings.sightings.size()) >= limits.count)
      missed.push_back(too_many(findings.sightings.size(), limits.count));
    if (missed.empty())
      findings.sightings.push_back(std::move(one));
    else
      findings.misses.push_back(turned_away(one, std::move(missed)));
  };
  if (scans.size() == 1) {
    for (const LineEdge& l : met[0].meant) take(sighting_of(scans[0], l, s.name));
    if (findings.sightings.empty()) tell_others(0);
    return findings;
  }
  std::vector<LineEdge> edges;
  for (size_t i = 0; i < scans.size(); ++i) {
    if (met[i].meant.empty()) {
      tell_others(i);
      return findings;
    }
    edges.push_back(met[i].meant[0]);
  }
  const Point2 origin = target.taught().origin + Point2{s.corner[0], s.corner[1]};
  const PartFit fit = part_by_edges(scans, edges, s.taught, origin);
  Sighting one{.target = s.name, .x = origin.x + fit.shift.x, .y = origin.y + fit.shift.y};
  one.has_angle = scans.size() > 2;
  one.angle = radians(fit.turn);
  one.sigma = {std::sqrt(fit.covariance(0, 0)), std::sqrt(fit.covariance(1, 1)),
               one.has_angle ? radians(std::sqrt(fit.covariance(2, 2))) : Angle{}, 0};
  one.score = 100;
  for (size_t i = 0; i < scans.size(); ++i) {
    one.score = std::min(one.score, 100 * edges[i].seen);
    one.contrast = std::max(one.contrast, std::abs(edges[i].edge.contrast));
    one.figures.push_back({fmt::format("shift.{}", i + 1), edges[i].edge.at - s.taught[i]});
    one.traces.push_back({.points = scans[i].border(), .closed = true, .seen = false});
    one.traces.push_back(trace_of(scans[i], edges[i]));
  }
  if (fit.determined) take(std::move(one));
  return findings;
}

}  // namespace heron
