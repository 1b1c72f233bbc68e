#pragma once
#include <Eigen/Core>
#include <algorithm>
#include <cmath>
#include <limits>
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
inline double variance_inflation(double weights, double answers) {
  return weights / std::max(0.2 * weights, answers);
}

/// How well a place is known along a direction; its x and y are the first two of the unknowns.
template <class Matrix>
double sigma_along(const Matrix& covariance, Point2 u) {
  return std::sqrt(std::max(
      0.0, u.x * u.x * covariance(0, 0) + 2 * u.x * u.y * covariance(0, 1) + u.y * u.y * covariance(1, 1)));
}

/// How many degrees of freedom each unknown's variance has that is a sum of squares over cells, by how
/// unevenly they pull (Satterthwaite, An approximate distribution of estimates of variance components,
/// Biometrics Bulletin 2, 1946): of normal errors the fourth powers come to three squared variances.
template <class Scalar, int unknowns>
Eigen::Array<double, unknowns, 1> freedom_of_cells(
    const std::vector<Eigen::Matrix<Scalar, unknowns, 1>>& cells) {
  using Pull = Eigen::Array<Scalar, unknowns, 1>;
  Pull largest = Pull::Constant(std::numeric_limits<Scalar>::min());
  for (const auto& cell : cells) largest = largest.max(cell.array().abs());
  Pull squares = Pull::Zero(), fourths = Pull::Constant(std::numeric_limits<Scalar>::min());
  for (const auto& cell : cells) {
    const Pull square = (cell.array() / largest).square();
    squares += square, fourths += square.square();
  }
  return (3 * squares.square() / fourths).max(1).template cast<double>();
}

/// By how much such a variance must be larger for errors to stay within two sigmas as often as when it is
/// known: the square of Student's quantile beside the normal one, to first order.
template <class Freedom>
auto student_growth(const Freedom& freedom) {
  return 1 + 2.5 / freedom;
}

/// What the cells' pulls add up to, squared, and by how much that understates it where the cells settle
/// `free` unknowns: fewer than all where some are held.
template <int unknowns>
struct CellSquares {
  Eigen::Matrix<double, unknowns, unknowns> sum;
  double growth;

  template <class Scalar>
  CellSquares(const std::vector<Eigen::Matrix<Scalar, unknowns, 1>>& cells, double free) {
    using Sum = Eigen::Matrix<Scalar, unknowns, unknowns>;
    Sum squares = Sum::Zero();
    int used = 0;
    for (const auto& cell : cells) {
      if ((cell.array() == 0).all()) continue;
      squares.noalias() += cell * cell.transpose();
      ++used;
    }
    sum = squares.template cast<double>(), growth = used / std::max(1.0, used - free);
  }
};

/// Covariance of unknowns from what each cell's weighted residuals pull at them, so that noise which
/// neighbours share counts (Liang, Zeger, Longitudinal data analysis using generalized linear models,
/// Biometrika 73, 1986). `inverse` is that of the normal matrix.
template <class Scalar, int unknowns>
Eigen::Matrix<double, unknowns, unknowns> covariance_of_cells(
    const std::vector<Eigen::Matrix<Scalar, unknowns, 1>>& cells,
    const Eigen::Matrix<double, unknowns, unknowns>& inverse, double free = unknowns) {
  const CellSquares<unknowns> squares(cells, free);
  return inverse * squares.sum * inverse * squares.growth;
}

/// The same of contributions that `inverse` has been applied to.
template <class Scalar, int unknowns>
Eigen::Matrix<double, unknowns, unknowns> covariance_of_influences(
    const std::vector<Eigen::Matrix<Scalar, unknowns, 1>>& cells, double free = unknowns) {
  const CellSquares<unknowns> squares(cells, free);
  return squares.sum * squares.growth;
}

/// The same of cells that lie side by side in rows of `across`. What a cell shares with those around it
/// counts as well, by Bartlett's weights (Conley, GMM estimation with cross sectional dependence, Journal of
/// Econometrics 92, 1999), where that makes an unknown's variance larger: a pattern behind the part may be
/// coarser than a cell.
template <class Scalar, int unknowns>
Eigen::Matrix<double, unknowns, unknowns> covariance_of_neighbours(
    const std::vector<Eigen::Matrix<Scalar, unknowns, 1>>& cells, int across, double free) {
  using Pull = Eigen::Array<Scalar, unknowns, 1>;
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
  const CellSquares<unknowns> squares(cells, free);
  return growth.asDiagonal() * squares.sum * growth.asDiagonal() * squares.growth;
}

}  // namespace heron
