#include "edge_part.hpp"

#include <Eigen/Eigenvalues>
#include <Eigen/LU>
#include <cmath>

namespace heron {
namespace {

/// Of a line square on a scan but for its slope.
Point2 normal_of(const Scan& scan, const LineEdge& line) {
  const Point2 u = scan.direction(0);
  return (u - Point2{-u.y, u.x} * line.slope) * (1 / std::hypot(1, line.slope));
}

/// Whether lines fix a shift, and three a turn about their middle: two that cross by less than three degrees
/// do not.
bool fix_a_part(const std::vector<Scan>& scans, const std::vector<LineEdge>& lines) {
  constexpr double least = 0.5 * 0.05 * 0.05;  // smallest eigenvalue of two lines that cross by 0.05 radians
  Point2 middle;
  double reach = 1e-9;
  for (size_t i = 0; i < scans.size(); ++i)
    middle += scans[i].at(lines[i].edge.at, 0) * (1.0 / static_cast<double>(scans.size()));
  for (size_t i = 0; i < scans.size(); ++i)
    reach = std::max(reach, distance(scans[i].at(lines[i].edge.at, 0), middle));
  Eigen::Matrix3d normal = Eigen::Matrix3d::Zero();
  for (size_t i = 0; i < scans.size(); ++i) {
    const Point2 n = normal_of(scans[i], lines[i]), lever = scans[i].at(lines[i].edge.at, 0) - middle;
    const Eigen::Vector3d j(n.x, n.y, scans.size() > 2 ? cross(lever, n) / reach : 0);
    normal += j * j.transpose();
  }
  if (scans.size() == 2) normal(2, 2) = 1;
  return Eigen::SelfAdjointEigenSolver<Eigen::Matrix3d>(normal, Eigen::EigenvaluesOnly).eigenvalues()[0] >
         least;
}

}  // namespace

PartFit part_by_edges(const std::vector<Scan>& scans, const std::vector<LineEdge>& edges,
                      const std::vector<LineEdge>& taught, Point2 origin) {
  const bool turns = scans.size() > 2;
  PartFit fit;
  if (!fix_a_part(scans, taught)) return fit;
  for (int round = 0; round < 6; ++round) {
    Eigen::Matrix3d normal = Eigen::Matrix3d::Zero();
    Eigen::Vector3d right = Eigen::Vector3d::Zero();
    for (size_t i = 0; i < scans.size(); ++i) {
      const LineEdge &line = taught[i], &edge = edges[i];
      const Point2 u = scans[i].direction(0), was = scans[i].at(line.edge.at, 0),
                   met = scans[i].at(edge.edge.at, 0);
      const Angle turn = radians(fit.turn);
      const double flat = std::hypot(1, line.slope);
      const Point2 n = rotated(normal_of(scans[i], line), turn), lever = rotated(was - origin, turn);
      // How far the taught line, moved, lies before the place met, along its own normal.
      const Point2 apart = met - (origin + fit.shift + lever);
      const double residual = dot(n, apart), along = cross(n, apart);
      const Eigen::Vector3d j(n.x, n.y, turns ? cross(lever, n) - along : 0);
      const double of_line = along * line.slope_sigma / (flat * flat), at_teaching = line.edge.sigma / flat,
                   now = edge.edge.sigma * dot(n, u);
      const double variance = of_line * of_line + at_teaching * at_teaching + now * now;
      const double w = 1 / std::max(variance, 1e-8);
      normal += w * j * j.transpose(), right += w * residual * j;
    }
    if (!turns) normal(2, 2) = 1;
    const Eigen::Vector3d change = normal.fullPivLu().solve(right);
    if (!change.allFinite()) return fit;
    fit.shift += Point2{change[0], change[1]}, fit.turn += turns ? change[2] : 0;
    fit.covariance = normal.inverse();
  }
  fit.determined = std::abs(fit.turn) < 0.6;
  return fit;
}

CornerFit corner_of(const std::vector<Scan>& scans, const std::vector<LineEdge>& edges,
                    const std::vector<LineEdge>& taught) {
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
    const auto variance_of_turn = [](const LineEdge& line) {
      const double sigma = line.slope_sigma / (1 + line.slope * line.slope);
      return std::max(sigma * sigma, 1e-12);
    };
    const double now = variance_of_turn(l), both = now + variance_of_turn(taught[i]);
    fit.turn += (std::atan(taught[i].slope) - std::atan(l.slope)) / both;
    turn_weights += 1 / both, opening_variance += now;
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
