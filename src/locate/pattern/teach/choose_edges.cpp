#include "choose_edges.hpp"

#include <fmt/format.h>

#include <Eigen/LU>
#include <algorithm>
#include <cmath>
#include <limits>

#include "geometry/linear.hpp"
#include "image/vector_padding.hpp"
#include "locate/common/cells.hpp"

namespace heron {
namespace {

/// Well spread from the first few on: each next edge is the one farthest from all chosen ones.
std::vector<TaughtEdge> spread_choice(const std::vector<TaughtEdge>& edges, size_t most) {
  if (edges.empty()) return edges;
  most = std::min(most, edges.size());
  std::vector<TaughtEdge> chosen{edges[0]};
  std::vector<double> nearest(edges.size(), std::numeric_limits<double>::infinity());
  while (chosen.size() < most) {
    size_t farthest = 0;
    for (size_t i = 0; i < edges.size(); ++i) {
      const Point2 d = edges[i].place - chosen.back().place;
      nearest[i] = std::min(nearest[i], dot(d, d));
      if (nearest[i] > nearest[farthest]) farthest = i;
    }
    chosen.push_back(edges[farthest]);
  }
  return chosen;
}

/// How many edges hold the part along the direction in which they hold it least.
struct Hold {
  double edges = 0, share = 0;
  Point2 slide;
};

Hold hold_of(const std::vector<TaughtEdge>& edges) {
  if (edges.empty()) return {};
  Eigen::Matrix2d normals = Eigen::Matrix2d::Zero();
  for (const TaughtEdge& e : edges) {
    const Eigen::Vector2d n(e.normal.x, e.normal.y);
    normals += n * n.transpose();
  }
  const SymmetricEigen eigen = eigen_symmetric(normals);
  return {eigen.values[0],
          eigen.values[0] / static_cast<double>(edges.size()),
          {eigen.vectors(0, 0), eigen.vectors(1, 0)}};
}

}  // namespace

Box extent_of(const std::vector<TaughtEdge>& edges) {
  double x0 = std::numeric_limits<double>::infinity(), y0 = x0, x1 = -x0, y1 = -x0;
  for (const TaughtEdge& e : edges) {
    x0 = std::min(x0, e.place.x), x1 = std::max(x1, e.place.x);
    y0 = std::min(y0, e.place.y), y1 = std::max(y1, e.place.y);
  }
  return {x0, y0, x1 - x0, y1 - y0};
}

void require_both_directions(const std::vector<TaughtEdge>& edges) {
  Eigen::Matrix2d hold = Eigen::Matrix2d::Zero();
  for (const TaughtEdge& e : edges) {
    const Eigen::Vector2d n(e.normal.x, e.normal.y);
    hold += n * n.transpose() / static_cast<double>(edges.size());
  }
  const SymmetricEigen eigen = eigen_symmetric(hold);
  if (eigen.values[0] > 0.01) return;
  const Eigen::Vector2d slide = eigen.vectors.col(0);
  double angle = std::atan2(slide.y(), slide.x()) * 180 / std::numbers::pi;
  angle = std::round(angle < 0 ? angle + 180 : angle);
  fail_argument(
      fmt::format("teach: all edges here run in one direction, so a part would slide along {:.0f} degrees "
                  "(from +x towards +y); "
                  "take a region that holds edges across it too",
                  angle == 180 ? 0 : angle));
}

bool edges_hold_angle(const std::vector<TaughtEdge>& edges) {
  Point2 middle;
  for (const TaughtEdge& e : edges) middle += e.place / static_cast<double>(edges.size());
  Eigen::Matrix3d information = Eigen::Matrix3d::Zero();
  for (const TaughtEdge& e : edges) {
    const Eigen::Vector3d j(e.normal.x, e.normal.y, cross(e.place - middle, e.normal));
    information += j * j.transpose() / static_cast<double>(edges.size());
  }
  const double lever = 1 / information.inverse()(2, 2);  // mean square shift in pixels per radian
  double squares = 0;
  for (const TaughtEdge& e : edges)
    squares += dot(e.place - middle, e.place - middle) / static_cast<double>(edges.size());
  // A circle's normals, measured under noise, miss its centre by some hundredths of its radius.
  return lever > std::max(1.0, 0.0036 * squares);
}

EdgeColumns columns_of(const std::vector<TaughtEdge>& edges, const Box& extent,
                       const ContourSegments& segments) {
  EdgeColumns c;
  c.segments = segments.count();
  for (const TaughtEdge& e : edges) c.segment.push_back(segments.of(e));
  c.count = edges.size();
  for (size_t i = 0; i < edges.size() + vector_padding; ++i) {
    const TaughtEdge& e = edges[std::min(i, edges.size() - 1)];
    c.x.push_back(static_cast<float>(e.place.x)), c.y.push_back(static_cast<float>(e.place.y));
    c.normal_x.push_back(static_cast<float>(e.normal.x)),
        c.normal_y.push_back(static_cast<float>(e.normal.y));
  }
  const double cell = cell_size(extent.width, extent.height);
  const int across = static_cast<int>(extent.width / cell) + 2;
  c.cells = across * (static_cast<int>(extent.height / cell) + 2);
  const auto steps = [&](double from_start) { return static_cast<int>(std::max(0.0, from_start) / cell); };
  for (const TaughtEdge& e : edges)
    c.cell.push_back(
        std::clamp(steps(e.place.y - extent.y) * across + steps(e.place.x - extent.x), 0, c.cells - 1));
  return c;
}

bool hold_both_ways(const std::vector<TaughtEdge>& edges) {
  constexpr double fewest = 5, min_share = 0.05;
  const Hold hold = hold_of(edges);
  return hold.edges >= fewest && hold.share >= min_share;
}

std::vector<TaughtEdge> holding_choice(const std::vector<TaughtEdge>& edges, size_t most) {
  std::vector<TaughtEdge> chosen = spread_choice(edges, most);
  constexpr double well = 0.15;
  const Hold hold = hold_of(chosen);
  if (chosen.size() < most || hold.share >= well) return chosen;
  std::vector<TaughtEdge> across;
  for (const TaughtEdge& e : edges)
    if (std::abs(dot(e.normal, hold.slide)) > 0.7) across.push_back(e);
  const std::vector<TaughtEdge> few = spread_choice(across, most / 5);
  std::vector<TaughtEdge> others = spread_choice(edges, most - few.size());
  // One after every few, so that the first of them hold it as well.
  std::vector<TaughtEdge> mixed;
  const auto taken = [&](const TaughtEdge& e) {
    return std::any_of(few.begin(), few.end(), [&](const TaughtEdge& f) { return f.place == e.place; });
  };
  std::erase_if(others, taken);
  for (size_t i = 0, k = 0; i < others.size(); ++i) {
    mixed.push_back(others[i]);
    if (i % 4 == 3 && k < few.size()) mixed.push_back(few[k++]);
  }
  return mixed;
}

}  // namespace heron
