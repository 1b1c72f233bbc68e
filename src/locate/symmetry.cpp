#include "symmetry.hpp"

#include <optional>
#include <unordered_map>

namespace heron {
namespace {

constexpr double widest_search = 6;  // pixels

/// Edges by the cell they lie in, to ask which one lies nearest to a place.
class EdgeMap {
 public:
  explicit EdgeMap(const std::vector<TaughtEdge>& edges) : edges_(edges) {
    for (size_t i = 0; i < edges.size(); ++i)
      cells_[key(step(edges[i].place.x), step(edges[i].place.y))].push_back(i);
  }
  /// The nearest edge within a distance of at most `widest_search` that points within 22 degrees of `normal`.
  std::optional<Point2> nearest(Point2 place, Point2 normal, double within) const {
    std::optional<Point2> best;
    for (int v = -1; v <= 1; ++v)
      for (int u = -1; u <= 1; ++u) {
        const auto found = cells_.find(key(step(place.x) + u, step(place.y) + v));
        if (found == cells_.end()) continue;
        for (const size_t i : found->second) {
          const double far = distance(edges_[i].place, place);
          if (far < within && dot(edges_[i].normal, normal) > 0.927) best = edges_[i].place, within = far;
        }
      }
    return best;
  }

 private:
  static int step(double v) { return static_cast<int>(std::floor(v / widest_search)); }
  static int64_t key(int x, int y) { return static_cast<int64_t>(y) * 1000003 + x; }
  const std::vector<TaughtEdge>& edges_;
  std::unordered_map<int64_t, std::vector<size_t>> cells_;
};

Point2 middle_of(const std::vector<TaughtEdge>& edges) {
  Point2 sum;
  for (const TaughtEdge& e : edges) sum += e.place;
  return sum / static_cast<double>(edges.size());
}

/// The centre about which a turn brings the edges onto themselves; nothing when it does not. The centroid is
/// some pixels off where edges stand unevenly, so the centre follows from the pairs that meet: nearer and
/// nearer ones, each time where they meet best.
std::optional<Point2> centre_of(const std::vector<TaughtEdge>& edges, const EdgeMap& map, Angle turn,
                                Point2 centre) {
  const size_t stride = std::max<size_t>(1, edges.size() / 400);
  for (const auto& [within, least_share] :
       {std::pair{widest_search, 0.8}, {3.0, 0.85}, {1.5, 0.85}, {1.25, 0.95}}) {
    double asked = 0, met = 0;
    Point2 from, to;
    for (size_t i = 0; i < edges.size(); i += stride) {
      const Point2 place = centre + rotated(edges[i].place - centre, turn);
      const auto there = map.nearest(place, rotated(edges[i].normal, turn), within);
      ++asked;
      if (there) ++met, from += edges[i].place, to += *there;
      if (met + 20 < least_share * asked) return std::nullopt;
    }
    if (met < least_share * asked) return std::nullopt;
    if (within <= 1.25) return centre;
    // centre + R (from - centre) = to, over all pairs together: (1 - R) centre = to - R from.
    const Point2 right = to / met - rotated(from / met, turn);
    const double a = 1 - cos(turn), b = sin(turn), size = a * a + b * b;
    centre = {(a * right.x - b * right.y) / size, (b * right.x + a * right.y) / size};
  }
  return std::nullopt;
}

}  // namespace

Symmetry symmetry_of(const std::vector<TaughtEdge>& edges) {
  const EdgeMap map(edges);
  const Point2 middle = middle_of(edges);
  constexpr int most_turns = 24;
  for (int turns = most_turns; turns > 1; --turns)
    if (const auto centre = centre_of(edges, map, degrees(360.0 / turns), middle)) return {turns, *centre};
  return {1, middle};
}

}  // namespace heron
