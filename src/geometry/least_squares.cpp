#include "geometry/least_squares.hpp"

#include <Eigen/LU>
#include <unsupported/Eigen/NonLinearOptimization>

#include "geometry/linear.hpp"
#include "heron/base/error.hpp"

namespace heron {
namespace {

/// The shape that Eigen's solver asks for.
struct Problem {
  using Scalar = double;
  using InputType = Eigen::VectorXd;
  using ValueType = Eigen::VectorXd;
  using JacobianType = Eigen::MatrixXd;
  enum { InputsAtCompileTime = Eigen::Dynamic, ValuesAtCompileTime = Eigen::Dynamic };

  const Residuals& residuals;
  int parameters, count;
  int inputs() const { return parameters; }
  int values() const { return count; }

  int operator()(const Eigen::VectorXd& x, Eigen::VectorXd& r) const {
    residuals(x, r);
    return 0;
  }
  int df(const Eigen::VectorXd& x, Eigen::MatrixXd& jacobian) const {
    Eigen::VectorXd ahead(count), behind(count), at = x;
    for (int k = 0; k < parameters; ++k) {
      const double step = 6e-6 * std::max(std::abs(x[k]), 1e-3);
      at[k] = x[k] + step;
      residuals(at, ahead);
      at[k] = x[k] - step;
      residuals(at, behind);
      at[k] = x[k];
      jacobian.col(k) = (ahead - behind) / (2 * step);
    }
    return 0;
  }
};

}  // namespace

LeastSquaresFit solve_least_squares(const Residuals& residuals, const Eigen::VectorXd& start, int count) {
  const auto parameters = static_cast<int>(start.size());
  if (count < parameters) fail_argument("least squares: fewer residuals than parameters");
  Problem problem{residuals, parameters, count};
  Eigen::LevenbergMarquardt<Problem> solver(problem);
  solver.parameters.xtol = solver.parameters.ftol = 1e-14;
  solver.parameters.maxfev = 200;
  LeastSquaresFit fit;
  fit.x = start;
  solver.minimize(fit.x);

  Eigen::VectorXd r(count);
  Eigen::MatrixXd jacobian(count, parameters);
  residuals(fit.x, r);
  problem.df(fit.x, jacobian);
  const LinearLeastSquares step = least_squares(jacobian, r);
  fit.determined = step.determined && step.unit_covariance.size() > 0 && r.allFinite();
  if (fit.determined) fit.unit_covariance = step.unit_covariance;
  fit.rms = std::sqrt(r.squaredNorm() / count);
  fit.sigma = count > parameters ? std::sqrt(r.squaredNorm() / (count - parameters)) : 0;
  return fit;
}

}  // namespace heron
