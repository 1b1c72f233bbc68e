#include "symmetry.hpp"

#include <algorithm>
#include <array>
#include <optional>

#include "edge_fit.hpp"
#include "edge_map.hpp"

namespace heron {
namespace {

/// Where a centre may be looked for first: the middle of the edges, and that of the outline's length, of
/// which a slanted line has fewer edges, one a row or column of pixels.
std::array<Point2, 2> middles_of(const std::vector<TaughtEdge>& edges) {
  Point2 of_edges, of_length;
  double length = 0;
  for (const TaughtEdge& e : edges) {
    const double its = 1 / std::max(std::abs(e.normal.x), std::abs(e.normal.y));
    of_edges += e.place / static_cast<double>(edges.size());
    of_length += e.place * its, length += its;
  }
  return {of_edges, of_length / length};
}

/// The place that a turn leaves where it is, given where it brings the origin: centre = turned centre +
/// moved.
Point2 fixed_point(Angle turn, Point2 moved) {
  const double a = 1 - cos(turn), b = sin(turn), size = a * a + b * b;
  return {(a * moved.x - b * moved.y) / size, (b * moved.x + a * moved.y) / size};
}

/// The centre about which a turn brings the edges onto themselves; nothing when it does not. The centroid is
/// some pixels off where edges stand unevenly, so the centre follows from the pairs that meet: nearer and
/// nearer ones, each time where they meet best.
std::optional<Point2> centre_of(const std::vector<TaughtEdge>& edges, const EdgeMap& map, Angle turn,
                                Point2 centre) {
  for (const auto& [within, min_share] :
       {std::pair{12.0, 0.7}, {6.0, 0.8}, {3.0, 0.85}, {1.5, 0.85}, {1.25, 0.85}}) {
    const size_t stride = std::max<size_t>(1, edges.size() / (within > 3 ? 100 : 400));
    double asked = 0, met = 0;
    Point2 from, to;
    for (size_t i = 0; i < edges.size(); i += stride) {
      const Point2 place = centre + rotated(edges[i].place - centre, turn);
      const auto there = map.nearest(place, rotated(edges[i].normal, turn), within);
      ++asked;
      if (there) ++met, from += edges[i].place, to += *there;
      if (met + 10 < min_share * asked) return std::nullopt;
    }
    if (met < min_share * asked) return std::nullopt;
    if (within <= 1.25) return centre;
    // centre + R (from - centre) = to, over all pairs together: (1 - R) centre = to - R from.
    centre = fixed_point(turn, to / met - rotated(from / met, turn));
  }
  return std::nullopt;
}

/// Where the taught picture shows the part turned, with all of its edges where it counts, the centre of that
/// turn. By pixels, since edges that lie a pixel off or a mark that covers few of them tell one turn from
/// another.
std::optional<Point2> shown_turned(const TurnedPart& part, const std::vector<TaughtEdge>& edges, Angle turn,
                                   Point2 centre) {
  const Point2 at = part.origin + centre - rotated(centre, turn);
  const EdgeFitSearch search{.min_contrast = part.contrast, .rounds = 4, .tells_sigma = false};
  const EdgeFit fit = fit_edges(part.picture, part.columns, {at.x, at.y, turn, 1}, search);
  // One that turns on as it is fitted is another part of a turn.
  double squares = 0;
  for (const TaughtEdge& e : edges) squares += dot(e.place - centre, e.place - centre);
  const double radius = std::sqrt(squares / static_cast<double>(edges.size())), max_off = 0.5;  // pixels
  if (!fit.fitted || radius * std::abs((fit.pose.angle - turn).wrapped().radians()) > max_off)
    return std::nullopt;
  const SeenEdges seen = see_edges(part.picture, part.columns, fit.pose, part.contrast, GradientSign::up);
  double all = 0, met = 0;
  for (size_t i = 0; i < edges.size(); ++i) {
    const Point2 there = fit.pose * edges[i].place;
    const int x = static_cast<int>(std::lround(there.x)), y = static_cast<int>(std::lround(there.y));
    if (!part.mask.view().holds(x, y) || !part.mask(x, y)) continue;
    ++all, met += static_cast<double>(seen.weights[i]);
  }
  if (2 * all <= static_cast<double>(edges.size()) || 100 * met < alike_from * all) return std::nullopt;
  return fixed_point(fit.pose.angle, fit.pose.position() - part.origin);
}

}  // namespace

Symmetry symmetry_of(const TurnedPart& part, const std::vector<TaughtEdge>& edges) {
  const EdgeMap map(edges);
  const std::array<Point2, 2> middles = middles_of(edges);
  constexpr int max_turns = 24;
  for (int turns = max_turns; turns > 1; --turns)
    for (const Point2& middle : middles) {
      const Angle turn = degrees(360.0 / turns);
      const auto centre = centre_of(edges, map, turn, middle);
      if (!centre) continue;
      if (const auto exactly = shown_turned(part, edges, turn, *centre)) return {turns, *exactly};
    }
  return {1, middles[0]};
}

}  // namespace heron
