#pragma once
#include <Eigen/Core>
#include <algorithm>
#include <cmath>
#include <vector>

#include "heron/base/point.hpp"

namespace heron {

/// Side of the cells of a part whose pixels and edges err together, pixels of the taught picture.
inline constexpr double cell_size = 8;

/// By how much weighted residuals understate the errors: `weights` is their sum, `answers` how they grow with
/// the residuals. Answers near or below zero mean that most residuals lie where the weights end.
inline double growth_of(double weights, double answers) { return weights / std::max(0.2 * weights, answers); }

/// How well a place is known along a direction; its x and y are the first two of the unknowns.
template <class Matrix>
double sigma_along(const Matrix& covariance, Point2 u) {
  return std::sqrt(std::max(
      0.0, u.x * u.x * covariance(0, 0) + 2 * u.x * u.y * covariance(0, 1) + u.y * u.y * covariance(1, 1)));
}

/// Covariance of unknowns from what each cell's weighted residuals pull at them, so that noise which
/// neighbours share counts (Liang, Zeger, Longitudinal data analysis using generalized linear models,
/// Biometrika 73, 1986). `inverse` is that of the normal matrix; `free` is how many unknowns the cells
/// settle: fewer than all where some are held.
template <class Scalar, int unknowns>
Eigen::Matrix<double, unknowns, unknowns> covariance_of_cells(
    const std::vector<Eigen::Matrix<Scalar, unknowns, 1>>& cells,
    const Eigen::Matrix<double, unknowns, unknowns>& inverse, double free = unknowns) {
  Eigen::Matrix<Scalar, unknowns, unknowns> sum = Eigen::Matrix<Scalar, unknowns, unknowns>::Zero();
  int cells_used = 0;
  for (const auto& cell : cells) {
    sum.noalias() += cell * cell.transpose();
    cells_used += cell.squaredNorm() > 0;
  }
  const double used = cells_used;
  return inverse * sum.template cast<double>() * inverse * (used / std::max(1.0, used - free));
}

}  // namespace heron
