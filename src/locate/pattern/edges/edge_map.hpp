#pragma once
#include <cmath>
#include <optional>
#include <unordered_map>
#include <vector>

#include "heron/locate/pattern.hpp"

namespace heron {

/// Edges by the cell they lie in, to ask which one lies nearest to a place.
class EdgeMap {
 public:
  explicit EdgeMap(std::vector<TaughtEdge> edges) : edges_(std::move(edges)) {
    for (size_t i = 0; i < edges_.size(); ++i)
      cells_[key(step(edges_[i].place.x), step(edges_[i].place.y))].push_back(i);
  }
  /// The nearest edge within a distance that points within 22 degrees of `normal`.
  std::optional<Point2> nearest(Point2 place, Point2 normal, double within) const {
    std::optional<Point2> best;
    const int reach = static_cast<int>(std::ceil(within / cell));
    for (int v = -reach; v <= reach; ++v)
      for (int u = -reach; u <= reach; ++u) {
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
  static constexpr double cell = 4;  // pixels
  static int step(double v) { return static_cast<int>(std::floor(v / cell)); }
  static int64_t key(int x, int y) { return static_cast<int64_t>(y) * 1000003 + x; }
  std::vector<TaughtEdge> edges_;
  std::unordered_map<int64_t, std::vector<size_t>> cells_;
};

}  // namespace heron
