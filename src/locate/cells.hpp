#pragma once
#include <Eigen/Core>
#include <algorithm>
#include <cmath>
#include <vector>

#include "heron/base/point.hpp"

namespace heron {

/// Side of the cells of a part whose pixels and edges err together, pixels of the taught picture: as large as
/// leaves some dozens along the edges, since what lies behind a part goes together far.
inline double cell_size(double width, double height) {
  return std::clamp(std::sqrt(width * height) / 9, 8.0, 16.0);
}

/// Neighbours mostly lie in one cell: added by turns to one of so many sums of it, none waits for the one
/// before.
inline constexpr size_t sums_a_cell = 2;

/// Makes one sum for each cell of its `sums_a_cell`, which lie side by side.
template <class Sum>
void merge_cells(std::vector<Sum>& sums) {
  const size_t cells = sums.size() / sums_a_cell;
  for (size_t i = 0; i < cells; ++i) {
    Sum sum = sums[sums_a_cell * i];
    for (size_t k = 1; k < sums_a_cell; ++k) sum += sums[sums_a_cell * i + k];
    sums[i] = sum;
  }
  sums.resize(cells);
}

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
/// settle: fewer than all where some are held. `jackknife` tells about what leaving out each cell by turns
/// would (MacKinnon, Nielsen, Webb, Cluster-robust inference: a guide to empirical practice, Journal of
/// Econometrics 232, 2023), which is no less than the errors where few cells settle much.
template <class Scalar, int unknowns>
Eigen::Matrix<double, unknowns, unknowns> covariance_of_cells(
    const std::vector<Eigen::Matrix<Scalar, unknowns, 1>>& cells,
    const Eigen::Matrix<double, unknowns, unknowns>& inverse, double free = unknowns,
    bool jackknife = false) {
  Eigen::Matrix<Scalar, unknowns, unknowns> sum = Eigen::Matrix<Scalar, unknowns, unknowns>::Zero();
  int cells_used = 0;
  for (const auto& cell : cells) {
    if ((cell.array() == 0).all()) continue;
    sum.noalias() += cell * cell.transpose();
    ++cells_used;
  }
  const double used = cells_used, growth = used / std::max(1.0, used - free);
  return inverse * sum.template cast<double>() * inverse * (jackknife ? growth * growth : growth);
}

/// The same of cells that lie side by side in rows of `across`, with nothing left to carry. What a cell
/// shares with those around it counts as well, by Bartlett's weights (Conley, GMM estimation with cross
/// sectional dependence, Journal of Econometrics 92, 1999), where that makes an unknown's variance larger: a
/// pattern behind the part may be coarser than a cell.
template <class Scalar, int unknowns>
Eigen::Matrix<double, unknowns, unknowns> covariance_of_neighbours(
    const std::vector<Eigen::Matrix<Scalar, unknowns, 1>>& cells, int across, double free) {
  using Pull = Eigen::Array<Scalar, unknowns, 1>;
  using Matrix = Eigen::Matrix<double, unknowns, unknowns>;
  Pull alone = Pull::Zero(), shared = Pull::Zero();
  const int down = static_cast<int>(cells.size()) / across;
  const auto at = [&](int x, int y) -> Pull {
    if (x < 0 || x >= across || y >= down) return Pull::Zero();
    return cells[static_cast<size_t>(y * across + x)].array();
  };
  for (int y = 0; y < down; ++y)
    for (int x = 0; x < across; ++x) {
      const Pull here = at(x, y);
      if ((here == 0).all()) continue;
      alone += here * here;
      shared += here * (at(x + 1, y) + at(x, y + 1) + (at(x - 1, y + 1) + at(x + 1, y + 1)) / 2);
    }
  const Eigen::Matrix<double, unknowns, 1> growth =
      (1 + (shared > 0).select(shared / alone, Pull::Zero())).sqrt().matrix().template cast<double>();
  return growth.asDiagonal() * covariance_of_cells(cells, Matrix(Matrix::Identity()), free) *
         growth.asDiagonal();
}

}  // namespace heron
