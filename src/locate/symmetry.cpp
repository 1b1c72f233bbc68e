#include "symmetry.hpp"

#include <unordered_map>

namespace heron {
namespace {

/// Edges by the pixel they lie in, to ask whether one lies near a place.
class EdgeMap {
 public:
  explicit EdgeMap(const std::vector<TaughtEdge>& edges) : edges_(edges) {
    for (size_t i = 0; i < edges.size(); ++i)
      cells_[key(step(edges[i].place.x), step(edges[i].place.y))].push_back(i);
  }
  bool holds(Point2 place, Point2 normal, double within, double least_cosine) const {
    for (int v = -1; v <= 1; ++v)
      for (int u = -1; u <= 1; ++u) {
        const auto found = cells_.find(key(step(place.x) + u, step(place.y) + v));
        if (found == cells_.end()) continue;
        for (const size_t i : found->second)
          if (distance(edges_[i].place, place) < within && dot(edges_[i].normal, normal) > least_cosine)
            return true;
      }
    return false;
  }

 private:
  static constexpr double cell = 2;
  static int step(double v) { return static_cast<int>(std::floor(v / cell)); }
  static int64_t key(int x, int y) { return static_cast<int64_t>(y) * 1000003 + x; }
  const std::vector<TaughtEdge>& edges_;
  std::unordered_map<int64_t, std::vector<size_t>> cells_;
};

}  // namespace

Symmetry symmetry_of(const std::vector<TaughtEdge>& edges) {
  Symmetry symmetry;
  for (const TaughtEdge& e : edges) symmetry.centre += e.place / static_cast<double>(edges.size());
  const EdgeMap map(edges);
  const size_t stride = std::max<size_t>(1, edges.size() / 400);
  const auto same_after = [&](Angle turn) {
    int asked = 0, met = 0;
    for (size_t i = 0; i < edges.size(); i += stride) {
      const Point2 place = symmetry.centre + rotated(edges[i].place - symmetry.centre, turn);
      ++asked, met += map.holds(place, rotated(edges[i].normal, turn), 1.25, 0.927);
      if (met + 20 < 0.95 * asked) return false;
    }
    return met >= 0.95 * asked;
  };
  constexpr int most_turns = 24;
  for (int turns = most_turns; turns > 1; --turns)
    if (same_after(degrees(360.0 / turns))) {
      symmetry.turns = turns;
      break;
    }
  return symmetry;
}

}  // namespace heron
