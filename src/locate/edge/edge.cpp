#include "heron/locate/edge.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>

#include "edge_part.hpp"
#include "edge_scan.hpp"
#include "locate/common/find_options.hpp"
#include "scan_circle.hpp"

namespace heron {
namespace {

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
  if (s.fit == EdgeShape::corner && (!several || !s.third.empty()))
    fail_argument("a corner is where the lines of two bands meet: give --band and --second, and no third");
  if (s.fit == EdgeShape::circle && (several || !s.band.empty()))
    fail_argument("a circle is met along an arc: give --arc x, y, inner radius, outer radius, start, turn");
  if (s.fit == EdgeShape::corner && s.order == EdgeOrder::all)
    fail_argument("a corner has one edge in each band; set order to first, last or strongest");
}

/// Several bands must be met by one place of what they locate alone.
void require_one_place(const EdgeSettings& s) {
  const std::vector<Scan> scans = scans_of(s);
  const std::vector<LineEdge> lines = taught_lines(s);
  if (s.fit == EdgeShape::corner) {
    if (!corner_of(scans, lines, lines).determined)
      fail_argument("the lines in both bands are parallel, so they meet nowhere; turn one of the bands");
  } else if (!part_by_edges(scans, lines, lines, {}).determined) {
    fail_argument(
        scans.size() == 2
            ? "both bands scan along one direction, so the part would slide across it; turn one of them"
            : "the three edges do not fix a turn: two of them must be parallel and apart");
  }
}

/// The band along that side of the box where the stronger edge is met.
std::vector<double> stronger_band(const ImageView<const uint8_t>& grey, const Box& box) {
  const Image<uint8_t> copy(grey);
  const Point2 c = box.centre();
  const std::vector<double> along_x{c.x, c.y, box.width, box.height, 0},
      along_y{c.x, c.y, box.height, box.width, 90};
  const auto strongest = [&](const std::vector<double>& band) {
    if (band[2] < 6) return 0.0;
    const Scan scan = Scan::band(band, "band");
    double most = 0;
    for (const double v : strength_along(LaneReader(copy, scan).mean_of(0, scan.lanes()), false))
      most = std::max(most, std::abs(v));
    return most;
  };
  return strongest(along_y) > strongest(along_x) ? along_y : along_x;
}

/// The ring between a quarter and the whole of the largest circle in the box.
std::vector<double> ring_in(const Box& box) {
  const double most = 0.5 * std::min(box.width, box.height) - 0.5;
  return {box.centre().x, box.centre().y, std::max(2.0, 0.25 * most), most, 0, 360};
}

/// Learns a circle: its radius, which change it is; returns its centre.
Point2 learn_circle(const PreparedPicture& prepared, const Scan& fan, EdgeSettings& s) {
  if (s.change == EdgeChange::learn) s.change = EdgeChange::either;
  const CircleFit circle = circle_by_scans(prepared, fan, s);
  if (!circle.determined || circle.seen < 0.3)
    fail_argument(
        fmt::format("teach: no circle is met by a third of the scans ({} of {} meet one) with edges of at "
                    "least {:.3g} grey "
                    "levels; set the arc's radii so that the circle runs between them, or lower --threshold",
                    std::count(circle.sectors.begin(), circle.sectors.end(), true),
                    std::max<size_t>(circle.sectors.size(), 1), edge_threshold(s, prepared, 6)));
  s.change = circle.contrast > 0 ? EdgeChange::rising : EdgeChange::falling;
  s.taught = {circle.radius}, s.taught_sigmas = {std::sqrt(circle.covariance(2, 2))};
  return circle.centre;
}

/// Learns where each band's edge lies, and which change a single band shows.
std::vector<LineEdge> learn_edges(const PreparedPicture& prepared, const std::vector<Scan>& scans,
                                  EdgeSettings& s) {
  if (s.change == EdgeChange::learn && scans.size() == 1) {
    EdgeSettings any = s;
    any.change = EdgeChange::either;
    if (any.order == EdgeOrder::all) any.order = EdgeOrder::strongest;
    const Scanned first = scanned(prepared, scans[0], any, "band");
    if (!first.meant.empty() && s.order != EdgeOrder::all)
      s.change = first.meant[0].edge.contrast > 0 ? EdgeChange::rising : EdgeChange::falling;
  }
  if (s.change == EdgeChange::learn) s.change = EdgeChange::either;
  std::vector<LineEdge> edges;
  for (size_t i = 0; i < scans.size(); ++i) {
    const Scanned met = scanned(prepared, scans[i], s, "band");
    if (met.meant.empty())
      fail_argument(fmt::format(
          "teach: no edge of at least {:.3g} grey levels in band {}; lower --threshold, or move the "
          "band across an edge",
          met.profile.threshold, i + 1));
    edges.push_back(met.meant[0]);
    const LineEdge& line = met.meant[0];
    s.taught.push_back(line.edge.at), s.taught_sigmas.push_back(line.edge.sigma);
    if (scans.size() > 1) s.slopes.push_back(line.slope), s.slope_sigmas.push_back(line.slope_sigma);
  }
  return edges;
}

}  // namespace

const KindInfo& EdgeTarget::info() {
  static const KindInfo kind{
      .id = "edge", .what = "edges met along a band or around an arc", .options = {"min score", "max count"}};
  return kind;
}

const std::vector<SettingRow<EdgeSettings>>& EdgeTarget::rows() {
  static const std::vector<SettingRow<EdgeSettings>> rows{
      {"band", &EdgeSettings::band,
       "X,Y,LENGTH,WIDTH,ANGLE of the band that is scanned; default: the region's box"},
      {"second", &EdgeSettings::second, "a second band; two bands locate a part that shifts"},
      {"third", &EdgeSettings::third, "a third band; three bands also locate a small rotation"},
      {"arc", &EdgeSettings::arc,
       "X,Y,INNER,OUTER,START,SWEEP of an arc that is scanned, degrees; SWEEP 360 is a ring"},
      {"fit",
       SettingWord<EdgeSettings>{[](const EdgeSettings& s) { return static_cast<int>(s.fit); },
                                 [](EdgeSettings& s, int i) { s.fit = static_cast<EdgeShape>(i); },
                                 {"edge", "corner", "circle"}},
       "edge: every edge by itself; corner: intersection of the lines in two bands; circle: fitted to the "
       "edges between the arc's radii"},
      {"change",
       SettingWord<EdgeSettings>{[](const EdgeSettings& s) { return static_cast<int>(s.change); },
                                 [](EdgeSettings& s, int i) { s.change = static_cast<EdgeChange>(i); },
                                 {"learn", "rising", "falling", "either"}},
       "brightness change along the scan: rising (dark to bright), falling, either, or learn"},
      {"order",
       SettingWord<EdgeSettings>{[](const EdgeSettings& s) { return static_cast<int>(s.order); },
                                 [](EdgeSettings& s, int i) { s.order = static_cast<EdgeOrder>(i); },
                                 {"first", "last", "strongest", "all"}},
       "which edges to report: first, last, strongest or all"},
      {"every", &EdgeSettings::every, "keep every N-th edge"},
      {"threshold", &EdgeSettings::threshold,
       "brightness step across an edge, grey levels; 0: chosen from the noise"},
      {"taught", &EdgeSettings::taught, "positions of the edges at teaching, pixels along each scan", true},
      {"taught_sigmas", &EdgeSettings::taught_sigmas, "standard uncertainties of these positions, pixels",
       true},
      {"slopes", &EdgeSettings::slopes, "slopes of the lines in several bands at teaching", true},
      {"slope_sigmas", &EdgeSettings::slope_sigmas, "standard uncertainties of these slopes", true},
      {"corner", &EdgeSettings::corner, "top left corner of the taught pixels in the camera's picture",
       true}};
  return rows;
}

EdgeTarget EdgeTarget::taught_from(const TeachingPicture& from, EdgeSettings s) {
  TaughtPicture taught = cut_out(from, s.origin);
  const Box box = from.region.bounds();
  if (s.arc.empty() && s.band.empty()) {
    if (s.fit == EdgeShape::circle)
      s.arc = ring_in(box);
    else if (s.fit == EdgeShape::edge)
      s.band = stronger_band(from.grey, box);
  }
  require_valid(s);
  const std::vector<Scan> scans = scans_of(s);
  require_inside(scans, from.grey.width(), from.grey.height(), s.name);
  const PreparedPicture prepared{Image<uint8_t>(from.grey)};
  s.taught.clear(), s.taught_sigmas.clear(), s.slopes.clear(), s.slope_sigmas.clear();
  std::vector<LineEdge> edges;
  std::optional<Point2> natural;  // the centre or corner itself
  if (s.fit == EdgeShape::circle)
    natural = learn_circle(prepared, scans[0], s);
  else
    edges = learn_edges(prepared, scans, s);
  if (s.fit == EdgeShape::corner) {
    if (const CornerFit met = corner_of(scans, edges, edges); met.determined) natural = met.at;
  }
  const Point2 corner = s.origin.value_or(box.centre()) - taught.origin;
  s.corner = {corner.x, corner.y};
  if (!s.origin) {
    // Where the edges are: the first, or where two bands cross.
    Point2 origin = natural.value_or(scans[0].at(s.taught[0], 0));
    if (scans.size() > 1 && !natural) {
      const Point2 n0 = scans[0].direction(0), n1 = scans[1].direction(0), p1 = scans[1].at(s.taught[1], 0);
      const double det = cross(n0, n1);
      if (std::abs(det) > 0.05) {
        const double a = dot(n0, origin), b = dot(n1, p1);
        origin = {(a * n1.y - b * n0.y) / det, (b * n0.x - a * n1.x) / det};
      }
    }
    taught.origin = origin - corner;
  }
  return {std::move(taught), std::move(s)};
}

EdgeTarget::EdgeTarget(TaughtPicture taught, EdgeSettings settings)
    : TaughtKind(std::move(taught), std::move(settings)) {
  require_valid(settings_);
  heron::require_valid(settings_.options, 1);
  const size_t count = scans_of(settings_).size();
  if (count == 0) fail_argument("an edge needs a band or an arc");
  const size_t lines = count > 1 ? count : 0;
  const auto sized = [](const std::vector<double>& v, size_t size) { return v.size() == size; };
  if (!sized(settings_.taught, count) || !sized(settings_.taught_sigmas, count) ||
      !sized(settings_.slopes, lines) || !sized(settings_.slope_sigmas, lines) || !sized(settings_.corner, 2))
    fail_argument(fmt::format("'{}' lacks where its edges were taught; teach it again", settings_.name));
  if (count > 1) require_one_place(settings_);
}

std::vector<Measurement> EdgeTarget::facts() const {
  const std::vector<Scan> scans = scans_of(settings_);
  if (settings_.fit == EdgeShape::circle) return {{"radius", settings_.taught[0]}};
  std::vector<Measurement> facts;
  for (size_t i = 0; i < scans.size(); ++i)
    facts.push_back(
        {scans.size() == 1 ? "along" : fmt::format("along.{}", i + 1), scans[i].told(settings_.taught[i])});
  return facts;
}

std::vector<Contour> EdgeTarget::contours() const {
  std::vector<Contour> contours;
  const Point2 corner{settings_.corner[0], settings_.corner[1]};
  const std::vector<Scan> scans = scans_of(settings_);
  const std::vector<LineEdge> lines = taught_lines(settings_);
  for (size_t i = 0; i < scans.size(); ++i) {
    contours.push_back({.points = scans[i].border(), .closed = true, .seen = false});
    if (settings_.fit != EdgeShape::circle) contours.push_back(trace_of(scans[i], lines[i]));
  }
  for (Contour& t : contours)
    for (Point2& p : t.points) p = p - corner;
  if (settings_.fit == EdgeShape::circle) {
    Contour circle;
    for (int i = 0; i < 120; ++i)
      circle.points.push_back(taught_->origin + unit(degrees(3 * i)) * settings_.taught[0]);
    contours.push_back(std::move(circle));
  }
  return contours;
}

}  // namespace heron
