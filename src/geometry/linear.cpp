#include "geometry/linear.hpp"

#include <Eigen/Cholesky>
#include <Eigen/Eigenvalues>
#include <Eigen/Geometry>
#include <Eigen/QR>

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
  // The quaternion q that makes q' k q largest (Horn, Closed-form solution of absolute orientation, 1987).
  Eigen::MatrixXd k(4, 4);
  k << m(0, 0) + m(1, 1) + m(2, 2), m(2, 1) - m(1, 2), m(0, 2) - m(2, 0), m(1, 0) - m(0, 1),  //
      m(2, 1) - m(1, 2), m(0, 0) - m(1, 1) - m(2, 2), m(0, 1) + m(1, 0), m(0, 2) + m(2, 0),   //
      m(0, 2) - m(2, 0), m(0, 1) + m(1, 0), m(1, 1) - m(0, 0) - m(2, 2), m(1, 2) + m(2, 1),   //
      m(1, 0) - m(0, 1), m(0, 2) + m(2, 0), m(1, 2) + m(2, 1), m(2, 2) - m(0, 0) - m(1, 1);
  const SymmetricEigen e = eigen_symmetric(k);
  return Eigen::Quaterniond(e.vectors(0, 3), e.vectors(1, 3), e.vectors(2, 3), e.vectors(3, 3))
      .normalized()
      .toRotationMatrix();
}

}  // namespace heron
