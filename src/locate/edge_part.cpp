#include "edge_part.hpp"

#include <Eigen/LU>
#include <cmath>

namespace heron {

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

CornerFit corner_of(const std::vector<Scan>& scans, const std::vector<LineEdge>& edges,
                    const std::vector<double>& taught_slopes) {
  CornerFit fit;
  Point2 through[2], along[2];  // a point of each line and its direction, of unit length across its band
  for (size_t i = 0; i < 2; ++i) {
    through[i] = scans[i].at(edges[i].edge.at, 0);
    along[i] = scans[i].at(edges[i].edge.at + edges[i].slope, 1) - through[i];
  }
  const double det = cross(along[0], along[1]);
  if (std::abs(det) < 0.1 * norm(along[0]) * norm(along[1])) return fit;
  const double across[2] = {cross(through[1] - through[0], along[1]) / det,
                            cross(through[1] - through[0], along[0]) / det};
  fit.at = through[0] + along[0] * across[0];
  // A line shifts the corner along its own scan by what it is off there, and the corner runs on the other.
  double turn_weights = 0, opening_variance = 0;
  for (size_t i = 0; i < 2; ++i) {
    const Point2 u = scans[i].direction(0), other = along[1 - i];
    const double per_off = cross(u, along[i]) / cross(other, along[i]);
    const LineEdge& l = edges[i];
    const double variance = l.edge.sigma * l.edge.sigma + 2 * across[i] * l.shared +
                            across[i] * across[i] * l.slope_sigma * l.slope_sigma;
    const Eigen::Vector2d move(other.x * per_off, other.y * per_off);
    fit.covariance += move * move.transpose() * std::max(variance, 0.0);
    // Scans and lanes are a right-handed pair: a growing slope turns the line back.
    const double flat = 1 + l.slope * l.slope, sigma = std::max(l.slope_sigma / flat, 1e-6);
    fit.turn += (std::atan(taught_slopes[i]) - std::atan(l.slope)) / (sigma * sigma);
    turn_weights += 1 / (sigma * sigma), opening_variance += sigma * sigma;
  }
  fit.turn /= turn_weights, fit.turn_sigma = 1 / std::sqrt(turn_weights);
  // Each side as seen from the corner, towards its band.
  const Point2 first = along[0] * (across[0] > 0 ? -1 : 1), second = along[1] * (across[1] > 0 ? -1 : 1);
  fit.opening = std::abs(std::atan2(cross(first, second), dot(first, second)));
  fit.opening_sigma = std::sqrt(opening_variance);
  fit.determined = true;
  return fit;
}

}  // namespace heron
