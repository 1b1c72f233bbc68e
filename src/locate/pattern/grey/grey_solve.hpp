#pragma once
#include <Eigen/Cholesky>

#include "grey_sums.hpp"
#include "locate/common/cells.hpp"

namespace heron {

using GreyMatrix = Eigen::Matrix<double, grey_unknowns, grey_unknowns>;
using GreyVector = Eigen::Matrix<double, grey_unknowns, 1>;
using GreyFree = std::array<bool, grey_unknowns>;

/// The products as a matrix: unknowns, and what is left.
struct GreyNormal {
  explicit GreyNormal(const GreyProducts& products) {
    for (Eigen::Index i = 0, k = 0; i < all.rows(); ++i)
      for (Eigen::Index j = i; j < all.cols(); ++j, ++k)
        all(i, j) = all(j, i) = products[static_cast<size_t>(k)];
  }
  Eigen::Matrix<double, grey_columns, grey_columns> all;
};

/// One least-squares problem, of which some unknowns are held at zero.
class GreySolved {
 public:
  /// `noise` is what the taught picture's noise adds to the columns' products by itself.
  GreySolved(const GreyNormal& normal, const GreyFree& free, const GreyMatrix& noise = GreyMatrix::Zero()) {
    GreyMatrix a = normal.all.topLeftCorner<grey_unknowns, grey_unknowns>() - noise;
    GreyVector b = normal.all.topRightCorner<grey_unknowns, 1>();
    for (Eigen::Index i = 0; i < a.rows(); ++i)
      if (!free[static_cast<size_t>(i)]) a.row(i).setZero(), a.col(i).setZero(), a(i, i) = 1, b[i] = 0;
    // One scale for all unknowns before solving, so that units do not matter.
    for (Eigen::Index i = 0; i < a.rows(); ++i) to_unit_[i] = a(i, i) > 0 ? 1 / std::sqrt(a(i, i)) : 1;
    solver_.compute(to_unit_.asDiagonal() * a * to_unit_.asDiagonal());
    good = solver_.info() == Eigen::Success && solver_.vectorD().minCoeff() > 1e-6;
    if (!good) return;
    x = to_unit_.cwiseProduct(solver_.solve(to_unit_.cwiseProduct(b)));
    squares = std::max(0.0, normal.all(grey_unknowns, grey_unknowns) - b.dot(x));
  }
  GreyMatrix inverse() const {
    return to_unit_.asDiagonal() * solver_.solve(GreyMatrix::Identity()) * to_unit_.asDiagonal();
  }
  bool good = false;
  GreyVector x;
  double squares = 0;  ///< left after it

 private:
  GreyVector to_unit_;
  Eigen::LDLT<GreyMatrix> solver_;
};

/// A weighted step from the samples at a pose, before the light changes by it.
struct FitState {
  const GreyProblem& problem;
  const std::vector<float>& roots;  ///< of the samples' weights
  GreyWeights weights;
  GreySolved solved;
  GreyFree free;
  double scatter;          ///< of the residuals
  GreyMatrix slope_noise;  ///< what the taught noise alone adds to the products

  GreyStep step() const {
    GreyStep step{};
    Eigen::Map<GreyVector>(step.data()) = solved.x;
    return step;
  }
  /// Of the unknowns, by the inverse of the normal matrix alone.
  GreyMatrix inverse() const {
    return solved.inverse() * variance_inflation(weights.sum, weights.psi_derivative_sum);
  }
  /// How far white noise moves the pose, for a variance of 1; slopes that are noise themselves add to it
  /// (Fuller, Measurement error models, Wiley 1987).
  Eigen::Matrix4d spread_of_noise() const {
    const GreyMatrix plain = solved.inverse();
    return (plain + plain * slope_noise * plain).topLeftCorner<4, 4>() *
           variance_inflation(weights.sum, weights.psi_derivative_sum);
  }
};

}  // namespace heron
