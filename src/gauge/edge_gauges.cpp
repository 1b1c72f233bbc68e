#include <fmt/format.h>

#include <algorithm>
#include <cmath>

#include "locate/edge/edge_scan.hpp"
#include "measured.hpp"

namespace heron {

EdgeSettings edge_settings(EdgeChange change, EdgeOrder order, double threshold) {
  EdgeSettings s;
  s.change = change, s.order = order, s.threshold = threshold;
  return s;
}

std::optional<Scan> band_in_picture(const std::vector<double>& drawn, const GaugeScene& scene,
                                    Measured& result) {
  std::vector<double> numbers = scene.placement.band(drawn);
  const int width = scene.prepared.width(), height = scene.prepared.height();
  constexpr double shortest = 6, narrowest = 1;
  if (numbers[2] < shortest || numbers[3] < narrowest) {
    result.fails(Verdict::not_measured,
                 fmt::format("its band is {:.1f} x {:.1f} pixels here; it must be at least {:g} "
                             "long and {:g} wide",
                             numbers[2], numbers[3], shortest, narrowest));
    return std::nullopt;
  }
  Scan scan = Scan::band(numbers, "band");
  result.contours.push_back({.points = scan.border(), .closed = true, .seen = false});
  result.at = scan.centre();
  if (scan.inside(width, height)) return scan;
  if (scene.outside == OutsidePicture::refuse) {
    result.fails(Verdict::not_measured, partly_outside_words);
    return std::nullopt;
  }
  const auto inside = [&](Point2 p) {
    return p.x >= -0.5 && p.y >= -0.5 && p.x <= width - 0.5 && p.y <= height - 0.5;
  };
  double first = 1, last = -1;  // of the lanes that are inside with both ends; picture and band are convex
  for (double across = -0.5 * scan.width(); across <= 0.5 * scan.width(); across += 0.5)
    if (inside(scan.at(0, across)) && inside(scan.at(scan.length(), across))) {
      if (first > last) first = across;
      last = across;
    }
  if (last - first < 3) {
    result.fails(Verdict::not_measured, outside_words);
    return std::nullopt;
  }
  const Point2 centre = scan.at(0.5 * scan.length(), 0.5 * (first + last));
  numbers[0] = centre.x, numbers[1] = centre.y, numbers[3] = last - first;
  return Scan::band(numbers, "band");
}

std::optional<Scan> ring_in_picture(const std::vector<double>& drawn, const GaugeScene& scene,
                                    Measured& result) {
  const Scan scan = Scan::arc(scene.placement.ring(drawn));
  result.contours.push_back({.points = scan.border(), .closed = true, .seen = false});
  result.at = scan.centre();
  if (scan.inside(scene.prepared.width(), scene.prepared.height())) return scan;
  result.fails(Verdict::not_measured, partly_outside_words);
  return std::nullopt;
}

namespace {

/// "no edge of at least 12 grey levels; the strongest has 7".
std::string no_edge(const ScanProfile& profile) {
  double most = 0;
  for (const double v : profile.strength) most = std::max(most, std::abs(v));
  return fmt::format("no edge of at least {:.0f} grey levels that is meant; the strongest change is {:.0f}",
                     profile.threshold, most);
}

/// Opposite edges of a band, by their indices.
struct EdgePair {
  size_t first, second;
  double width, off_middle;
};

std::vector<EdgePair> pairs_of(const std::vector<ScanEdge>& edges, const WidthGauge& gauge, double length) {
  std::vector<EdgePair> pairs;
  const auto bright = [&](size_t i) { return edges[i].contrast > 0; };
  const auto add = [&](size_t i, size_t j) {
    if (bright(i) == bright(j)) return;
    if (gauge.tone != WidthTone::either && bright(i) != (gauge.tone == WidthTone::bright)) return;
    pairs.push_back({i, j, edges[j].at - edges[i].at, std::abs(edges[i].at + edges[j].at - length)});
  };
  const size_t count = edges.size();
  if (gauge.pair == WidthPair::outermost) {
    for (size_t span = count; span-- > 1 && pairs.empty();)
      for (size_t i = 0; i + span < count && pairs.empty(); ++i) add(i, i + span);
    return pairs;
  }
  for (size_t i = 0; i + 1 < count; ++i) add(i, i + 1);
  if (pairs.empty() || gauge.pair == WidthPair::all) return pairs;
  return {*std::min_element(pairs.begin(), pairs.end(), [&](const EdgePair& a, const EdgePair& b) {
    if (gauge.pair == WidthPair::nearest) return a.off_middle < b.off_middle;
    return gauge.pair == WidthPair::widest ? a.width > b.width : a.width < b.width;
  })};
}

}  // namespace

Measured measured(const EdgeGauge& gauge, const GaugeScene& scene) {
  Measured result;
  const EdgeSettings settings = edge_settings(gauge.change, gauge.order, gauge.threshold);
  const bool around = gauge.band.empty();
  const auto scan =
      around ? ring_in_picture(gauge.ring, scene, result) : band_in_picture(gauge.band, scene, result);
  if (!scan) return result;
  Scanned met = scanned(scene.prepared, *scan, settings, around ? "ring" : "band", Others::leave_out);
  result.profiles.push_back(std::move(met.profile));
  if (met.meant.empty()) return result.fails(Verdict::not_found, no_edge(result.profiles[0]));
  const LineEdge& edge = met.meant.front();
  const Point2 place = scan->at(edge.edge.at, 0), along = scan->direction(edge.edge.at);
  const double scene_sigma = scene.place_sigma.along(place, along);
  result.contours.push_back(trace_of(*scan, edge));
  result.at = place;
  if (around) {
    const double radius = distance(place, scan->centre());
    result.reads(
        "angle",
        {scan->told(edge.edge.at), radians(std::hypot(edge.edge.sigma, scene_sigma) / radius).degrees()},
        "deg");
    const Eigen::Vector2d u(along.x, along.y);
    result.feature = scene.plane.point(place, u * u.transpose() * (edge.edge.sigma * edge.edge.sigma));
  } else {
    const Point2 start = scene.plane.at(scan->at(0, 0)), end = scene.plane.at(place);
    const double scale = distance(start, end) / std::max(edge.edge.at, 1e-9);
    result.reads("place", {distance(start, end), std::hypot(edge.edge.sigma, scene_sigma) * scale},
                 scene.plane.length_unit());
    result.feature = scene.plane.line(*scan, edge);
  }
  result.values = {{"contrast", edge.edge.contrast, {}, ""}, {"seen", 100 * edge.seen, {}, "%"}};
  return result;
}

Measured measured(const WidthGauge& gauge, const GaugeScene& scene) {
  Measured result;
  const auto scan = band_in_picture(gauge.band, scene, result);
  if (!scan) return result;
  const EdgeSettings settings = edge_settings(EdgeChange::either, EdgeOrder::all, gauge.threshold);
  const std::vector<Strip> strips = strips_of(scene.prepared.level(0), *scan);
  ScannedProfile met = scanned_profile(scene.prepared, *scan, strips, settings, Others::leave_out);
  const std::vector<EdgePair> pairs = pairs_of(met.meant, gauge, scan->length());
  ScanProfile drawn = std::move(met.profile);
  drawn.name = "band";
  for (const ScanEdge& e : met.meant) drawn.edges.push_back(e.at);
  if (pairs.empty()) {
    result.fails(Verdict::not_found,
                 met.meant.empty()
                     ? no_edge(drawn)
                     : fmt::format("no pair of opposite edges among the {} edges met", met.meant.size()));
    result.profiles.push_back(std::move(drawn));
    return result;
  }
  result.profiles.push_back(std::move(drawn));
  // Lines are fitted to those edges alone that make a pair.
  const double pixel_noise = std::max(scene.prepared.noise_sigma(0), 0.3);
  double sum = 0, variance = 0, least = 1e300, most = 0;
  for (const EdgePair& p : pairs) {
    const LineEdge first = line_through(*scan, strips, met.meant[p.first], pixel_noise),
                   second = line_through(*scan, strips, met.meant[p.second], pixel_noise);
    const MeasuredLine from = scene.plane.line(*scan, first), to = scene.plane.line(*scan, second);
    const Uncertain width = between_lines(from, to);
    result.items.push_back({scan->at(0.5 * (first.edge.at + second.edge.at), 0), width.value});
    result.contours.push_back(trace_of(*scan, first)), result.contours.push_back(trace_of(*scan, second));
    result.contours.push_back(
        {.points = {scan->at(first.edge.at, 0), scan->at(second.edge.at, 0)}, .closed = false});
    sum += width.value, variance += width.sigma * width.sigma;
    least = std::min(least, width.value), most = std::max(most, width.value);
    if (pairs.size() == 1) {  // the line midway is what others may follow
      MeasuredLine middle = from;
      middle.at = (from.at + to.at) * 0.5, middle.sigma = 0.5 * std::hypot(from.sigma, to.sigma);
      result.feature = middle;
    }
  }
  const auto n = static_cast<double>(pairs.size());
  const char* unit = scene.plane.length_unit();
  result.at = result.items.front().at;
  result.reads("width", {sum / n, std::sqrt(variance) / n}, unit);
  if (gauge.pair == WidthPair::all)
    result.values = {{"pairs", n, {}, ""}, {"least", least, {}, unit}, {"most", most, {}, unit}};
  return result;
}

Measured measured(const LineGauge& gauge, const GaugeScene& scene) {
  Measured result;
  const auto scan = band_in_picture(gauge.band, scene, result);
  if (!scan) return result;
  Scanned met = scanned(scene.prepared, *scan, edge_settings(gauge.change, gauge.order, gauge.threshold),
                        "band", Others::leave_out);
  result.profiles.push_back(std::move(met.profile));
  if (met.meant.empty()) return result.fails(Verdict::not_found, no_edge(result.profiles[0]));
  const LineEdge& edge = met.meant.front();
  if (edge.met.size() < 4)
    return result.fails(
        Verdict::not_found,
        fmt::format("{} strips of the band meet the edge; its straightness needs 4", edge.met.size()));
  const MeasuredLine line = scene.plane.line(*scan, edge);
  result.contours.push_back(trace_of(*scan, edge)), result.at = scan->at(edge.edge.at, 0),
                                                    result.feature = line;
  // Every strip that meets the edge counts: where it is not straight is what is asked for.
  double least = 1e300, most = -1e300, squares = 0, of_least = 0, of_most = 0, sigmas = 0;
  for (const StripEdge& s : edge.met) {
    const Point2 pixel = scan->at(s.at, s.across), at = scene.plane.at(pixel);
    const double off = dot(line.normal, at - line.at), sigma = s.sigma * scene.plane.scale(pixel);
    if (off < least) least = off, of_least = sigma;
    if (off > most) most = off, of_most = sigma;
    squares += off * off, sigmas += sigma * sigma;
    result.items.push_back({pixel, off, s.on_line});
  }
  const auto n = static_cast<double>(edge.met.size());
  const char* unit = scene.plane.length_unit();
  const Uncertain straightness{most - least, std::hypot(of_least, of_most)},
      rms{std::sqrt(squares / n), std::sqrt(sigmas / n / (2 * n))};
  const auto off =
      std::count_if(edge.met.begin(), edge.met.end(), [](const StripEdge& s) { return !s.on_line; });
  if (gauge.reads == LineReading::rms)
    result.reads("rms", rms, unit);
  else
    result.reads("straightness", straightness, unit);
  result.values = {{"straightness", straightness.value, straightness.sigma, unit},
                   {"rms", rms.value, rms.sigma, unit},
                   {"outliers", static_cast<double>(off), {}, ""},
                   {"seen", 100 * edge.seen, {}, "%"}};
  return result;
}

}  // namespace heron
