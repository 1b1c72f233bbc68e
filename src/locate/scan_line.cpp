#include "scan_line.hpp"

#include <Eigen/Dense>
#include <algorithm>
#include <cmath>

namespace heron {

constexpr int strip_lanes = 6;  // of a band's width, for one point of the edge's line

LineEdge line_through(const Image<uint8_t>& picture, const Scan& scan, const ScanEdge& edge,
                      double pixel_noise, double slope) {
  LineEdge line{.edge = edge, .slope = slope};
  const int strips = scan.lanes() / strip_lanes;
  if (strips < 2) return line;
  struct Point {
    double across, along, sigma;
  };
  std::vector<Point> points;
  for (int i = 0; i < strips; ++i) {
    const int first = i * scan.lanes() / strips, end = (i + 1) * scan.lanes() / strips;
    const auto profile = profile_along(picture, scan, first, end);
    const double noise = pixel_noise / std::sqrt(static_cast<double>(end - first));
    const double across = 0.5 * (scan.lane(first) + scan.lane(end - 1));
    const auto met = step_near(profile, scan.round(), edge.at + slope * across, 5, noise);
    if (!met || met->contrast * edge.contrast <= 0 ||
        std::abs(met->contrast) < 0.35 * std::abs(edge.contrast))
      continue;
    points.push_back({across, met->at, std::max(met->sigma, 0.003)});
  }
  if (points.size() < 2) {
    line.seen = static_cast<double>(points.size()) / strips;
    return line;
  }
  double at = edge.at, scale = 3;
  Eigen::Matrix2d normal;
  double squares = 0, weights = 0;
  for (int round = 0; round < 8; ++round) {
    normal = Eigen::Matrix2d::Identity() * 1e-12;
    Eigen::Vector2d right = Eigen::Vector2d::Zero();
    std::vector<double> off;
    squares = weights = 0;
    for (const Point& p : points) {
      const double residual = p.along - at - slope * p.across, t = residual / scale;
      off.push_back(std::abs(residual));
      if (std::abs(t) >= 1) continue;
      const double w = (1 - t * t) * (1 - t * t) / (p.sigma * p.sigma);
      const Eigen::Vector2d j(1, p.across);
      normal += w * j * j.transpose(), right += w * residual * j;
      squares += w * residual * residual, weights += (1 - t * t) * (1 - t * t);
    }
    const Eigen::Vector2d change = normal.inverse() * right;
    if (!change.allFinite()) return line;
    at += change[0], slope += change[1];
    std::nth_element(off.begin(), off.begin() + static_cast<ptrdiff_t>(off.size() / 2), off.end());
    scale = std::max(4.7 * 1.4826 * off[off.size() / 2], 0.05);
  }
  const double excess = weights > 2.5 ? std::max(1.0, squares / (weights - 2)) : 1;
  const Eigen::Matrix2d covariance = normal.inverse() * excess;
  line.edge.at = at, line.edge.sigma = std::sqrt(covariance(0, 0));
  line.slope = slope, line.slope_sigma = std::sqrt(covariance(1, 1));
  line.shared = covariance(0, 1);
  const auto on_line = std::count_if(points.begin(), points.end(), [&](const Point& p) {
    return std::abs(p.along - at - slope * p.across) < std::max(0.5, 4 * p.sigma);
  });
  line.seen = static_cast<double>(on_line) / strips;
  return line;
}

}  // namespace heron
