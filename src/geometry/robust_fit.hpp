#pragma once
#include <Eigen/Cholesky>
#include <Eigen/Core>
#include <algorithm>
#include <cmath>
#include <limits>
#include <vector>

#include "base/tukey.hpp"
#include "heron/base/median.hpp"

namespace heron {

/// One measurement of a linear fit: value = terms . unknowns, give or take sigma.
template <int N>
struct FitRow {
  Eigen::Matrix<double, N, 1> terms;
  double value = 0, sigma = 1;
};

/// Beyond which distance a measurement counts for nothing, in the units of `value`.
struct RobustLimits {
  double least = 0;  ///< never nearer than this
  double first = std::numeric_limits<double>::infinity();
  double shrinks = 0;  ///< a round takes it to no less than this share of what it was
  int rounds = 10;
  bool sigmas_known = true;  ///< false: they are relative, and the scatter gives their size
};

template <int N>
struct RobustFit {
  Eigen::Matrix<double, N, 1> unknowns;
  /// Of the unknowns; larger by as much as the measurements that count scatter by more than their sigmas.
  Eigen::Matrix<double, N, N> covariance = Eigen::Matrix<double, N, N>::Zero();
  double scatter = 0;  ///< root of the mean squared residual of what counts, in its sigmas
  double limit = 0;    ///< the last distance at which nothing counts any more
  bool determined = false;
};

/// Linear least squares, robust against outliers: Tukey's biweight, iterated from `start`
/// with a limit of 4.7 times the scatter that the median of the residuals shows (Huber, Robust Statistics,
/// 1981), until it rests. Not determined where what counts does not fix every unknown. Cost: rounds x rows.
template <int N>
RobustFit<N> fit_robustly(const std::vector<FitRow<N>>& rows, const Eigen::Matrix<double, N, 1>& start,
                          const RobustLimits& options) {
  using Matrix = Eigen::Matrix<double, N, N>;
  using Vector = Eigen::Matrix<double, N, 1>;
  constexpr double median_to_sigma = 1.4826, cut = 4.7;
  RobustFit<N> fit{.unknowns = start};
  fit.limit = options.first;
  std::vector<double> off(rows.size()), sizes;
  constexpr double at_rest = 1e-3;  // sigmas; a round that moves the unknowns by less is the last
  for (int round = 0; round < options.rounds; ++round) {
    for (size_t i = 0; i < rows.size(); ++i) off[i] = rows[i].value - rows[i].terms.dot(fit.unknowns);
    sizes = off;
    const double limit_before = fit.limit;
    fit.limit = std::max({options.least, options.shrinks > 0 ? options.shrinks * fit.limit : 0.0,
                          std::min(fit.limit, cut * median_to_sigma * median_size(sizes))});
    Matrix normal = Matrix::Zero();
    Vector right = Vector::Zero();
    double squares = 0, weights = 0;
    for (size_t i = 0; i < rows.size(); ++i) {
      const double t = off[i] / fit.limit;
      if (!(std::abs(t) < 1)) continue;
      const double share = tukey_weight(t), w = share / (rows[i].sigma * rows[i].sigma);
      normal += w * rows[i].terms * rows[i].terms.transpose(), right += w * off[i] * rows[i].terms;
      squares += w * off[i] * off[i], weights += share;
    }
    const Vector size = normal.diagonal().cwiseSqrt().cwiseMax(1e-150);
    const Matrix even = size.cwiseInverse().asDiagonal() * normal * size.cwiseInverse().asDiagonal();
    const Eigen::LDLT<Matrix> solver(even);
    fit.determined = weights > 0 && solver.info() == Eigen::Success && solver.vectorD().minCoeff() > 1e-10;
    if (!fit.determined) return fit;
    const Vector change = solver.solve(right.cwiseQuotient(size)).cwiseQuotient(size);
    fit.unknowns += change;
    const double variance = weights > N + 0.5 ? squares / (weights - N) : 1;
    fit.scatter = std::sqrt(variance);
    const bool last = round + 1 == options.rounds ||
                      (change.dot(right) < at_rest * at_rest * variance && fit.limit > 0.999 * limit_before);
    if (!last) continue;
    fit.covariance = size.cwiseInverse().asDiagonal() * solver.solve(Matrix::Identity()).eval() *
                     size.cwiseInverse().asDiagonal() *
                     (options.sigmas_known ? std::max(1.0, variance) : variance);
    break;
  }
  return fit;
}

}  // namespace heron
