#pragma once
#include <Eigen/Core>
#include <optional>

namespace heron {

// Dense linear algebra of run-time size by Eigen, compiled in one place: its templates take longer to build
// than all else.

Eigen::MatrixXd product(const Eigen::MatrixXd& a, const Eigen::MatrixXd& b);

/// Solves a x = b for a symmetric `a` (LDLT); b may hold several columns.
Eigen::MatrixXd solve_symmetric(const Eigen::MatrixXd& a, const Eigen::MatrixXd& b);

/// Inverse of a symmetric matrix whose rows and columns are scaled alike first; nothing when it has
/// no full rank (an eigenvalue below 1e-12 of that scale).
std::optional<Eigen::MatrixXd> inverse_symmetric(const Eigen::MatrixXd& a);

/// Eigenvalues in growing order and their vectors, as columns.
struct SymmetricEigen {
  Eigen::VectorXd values;
  Eigen::MatrixXd vectors;
};
SymmetricEigen eigen_symmetric(const Eigen::MatrixXd& a);

/// W with W'W = a^-1, for a positive definite `a`: what whitens residuals of covariance `a`.
Eigen::MatrixXd whitener(const Eigen::MatrixXd& a);

/// The x that minimises |a x - b|, with columns scaled to one length, so that units do not matter.
struct LinearLeastSquares {
  Eigen::VectorXd x;
  bool determined = false;          ///< the columns are independent (to 1e-6)
  double sum_of_squares = 0;        ///< what is left
  Eigen::MatrixXd unit_covariance;  ///< (a'a)^-1
};
LinearLeastSquares least_squares(const Eigen::MatrixXd& a, const Eigen::VectorXd& b);

/// The rotation nearest to `m`, in the sum of squared differences.
Eigen::Matrix3d nearest_rotation(const Eigen::Matrix3d& m);

}  // namespace heron
