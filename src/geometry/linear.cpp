#include "heron/geometry/linear.hpp"

#include <Eigen/Dense>

namespace heron {

Eigen::MatrixXd product(const Eigen::MatrixXd& a, const Eigen::MatrixXd& b) { return a * b; }

Eigen::MatrixXd solve_symmetric(const Eigen::MatrixXd& a, const Eigen::MatrixXd& b) {
  return a.ldlt().solve(b);
}

SymmetricEigen eigen_symmetric(const Eigen::MatrixXd& a) {
  const Eigen::SelfAdjointEigenSolver<Eigen::MatrixXd> solver(a);
  return {solver.eigenvalues(), solver.eigenvectors()};
}

std::optional<Eigen::MatrixXd> inverse_symmetric(const Eigen::MatrixXd& a) {
  const Eigen::VectorXd scale = a.diagonal().cwiseMax(1e-300).cwiseSqrt().cwiseInverse();
  const SymmetricEigen e = eigen_symmetric(scale.asDiagonal() * a * scale.asDiagonal());
  if (!(e.values[0] > 1e-12)) return std::nullopt;
  const Eigen::MatrixXd half = e.vectors * e.values.cwiseInverse().cwiseSqrt().asDiagonal();
  const Eigen::MatrixXd scaled = scale.asDiagonal() * half;
  return product(scaled, scaled.transpose());
}

Eigen::MatrixXd whitener(const Eigen::MatrixXd& a) {
  const SymmetricEigen e = eigen_symmetric(a);
  return e.values.cwiseMax(1e-300).cwiseSqrt().cwiseInverse().asDiagonal() * e.vectors.transpose();
}

LinearLeastSquares least_squares(const Eigen::MatrixXd& a, const Eigen::VectorXd& b) {
  const Eigen::VectorXd lengths = a.colwise().norm().cwiseMax(1e-300);
  const Eigen::MatrixXd scaled = a * lengths.cwiseInverse().asDiagonal();
  Eigen::ColPivHouseholderQR<Eigen::MatrixXd> qr;
  qr.setThreshold(1e-6);
  qr.compute(scaled);
  LinearLeastSquares r;
  r.determined = qr.rank() == a.cols();
  r.x = lengths.cwiseInverse().asDiagonal() * Eigen::VectorXd(qr.solve(b));
  r.sum_of_squares = (b - product(a, r.x).col(0)).squaredNorm();
  if (const auto inverse = inverse_symmetric(product(scaled.transpose(), scaled)))
    r.unit_covariance = lengths.cwiseInverse().asDiagonal() * *inverse * lengths.cwiseInverse().asDiagonal();
  return r;
}

Eigen::Matrix3d nearest_rotation(const Eigen::Matrix3d& m) {
  const Eigen::JacobiSVD<Eigen::Matrix3d> svd(m, Eigen::ComputeFullU | Eigen::ComputeFullV);
  Eigen::Matrix3d u = svd.matrixU();
  if ((u * svd.matrixV().transpose()).determinant() < 0) u.col(2) *= -1;
  return u * svd.matrixV().transpose();
}

}  // namespace heron
