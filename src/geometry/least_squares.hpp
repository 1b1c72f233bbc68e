#pragma once
#include <Eigen/Core>
#include <functional>

namespace heron {

/// What a least-squares fit found.
struct LeastSquaresFit {
  Eigen::VectorXd x;  ///< the parameters
  Eigen::MatrixXd
      unit_covariance;      ///< inverse of J'J; times the residual's variance it is the covariance of x
  double rms = 0;           ///< root of the mean squared residual
  double sigma = 0;         ///< residual's sigma, estimated with the degrees of freedom that are left
  bool determined = false;  ///< false when J has no full rank: some parameter is not fixed by the data
};

/// Fills `r` (its size is the number of residuals) with the residuals at `x`.
using Residuals = std::function<void(const Eigen::VectorXd& x, Eigen::VectorXd& r)>;

/// Minimises the sum of squares by Levenberg-Marquardt (More, The Levenberg-Marquardt algorithm, 1978;
/// Eigen's implementation) with a Jacobian by central differences. Deterministic. `count` is the number of
/// residuals and must be at least that of the parameters. Cost: iterations x 2 parameters x one call of
/// `residuals`.
LeastSquaresFit solve_least_squares(const Residuals& residuals, const Eigen::VectorXd& start, int count);

}  // namespace heron
