#include "grey_further.hpp"

#include "grey_blur.hpp"

namespace heron {
namespace {

/// The first `n` further columns, solved for beside the unknowns, of which `inverse` is that of the normal
/// matrix.
template <int n>
struct Further {
  /// `prior` is the variance of what is left over that of each column's share, as it is known beforehand.
  Further(ExtraRegressors f, const GreyMatrix& inverse, const GreyFree& free, double prior = 0) {
    for (Eigen::Index i = 0; i < f.with.cols(); ++i)
      if (!free[static_cast<size_t>(i)]) f.with.col(i).setZero();
    const Eigen::Matrix<double, grey_unknowns, n> carried = inverse * f.with.topRows<n>().transpose();
    // In units in which each column alone is as large.
    unit = f.own.topLeftCorner<n, n>().diagonal().cwiseSqrt().cwiseInverse();
    Eigen::Matrix<double, n, n> own = f.own.topLeftCorner<n, n>() - f.with.topRows<n>() * carried;
    own.diagonal().array() += prior;
    solver.compute(unit.asDiagonal() * own * unit.asDiagonal());
    good = solver.info() == Eigen::Success && solver.vectorD().minCoeff() > 1e-4;
    if (!good) return;
    const Eigen::Matrix<double, n, 1> left = unit.cwiseProduct(f.left.head<n>());
    found = solver.solve(left);
    squares = left.dot(found);
    moves = carried * unit.asDiagonal();
  }
  /// Whether they explain more than what chance leaves, which comes so far once in many thousands.
  bool beyond_doubt(double scatter) const { return good && squares > 20 * scatter * scatter; }

  bool good = false;                              ///< they are independent of each other and of the unknowns
  Eigen::Matrix<double, n, 1> unit, found;        ///< `found` times `unit` are the columns' shares
  double squares = 0;                             ///< that they explain
  Eigen::Matrix<double, grey_unknowns, n> moves;  ///< of the unknowns, by each of `found`
  Eigen::LDLT<Eigen::Matrix<double, n, n>> solver;
};

/// By how much the taught noise is less like itself behind a little more blur.
double noise_loss(double variance) {
  return noise_behind(variance, variance) - noise_behind(variance, variance + softer_by);
}

}  // namespace

double more_blur(const FitState& look, const GreyModel& model, const Similarity2& pose, double variance,
                 double noise, FurtherScratch& s) {
  const GreyProblem& problem = look.problem;
  const GreySamples& samples = problem.samples;
  const GreyLight& light = problem.light;
  if (variance != 0) blur(model.coefficients, variance + softer_by, s.softer_blurred);
  std::vector<float>& column = s.columns[0];
  values_under(variance == 0 ? model.softer : s.softer_blurred, model.origin, pose, samples, column);
  const auto gain = static_cast<float>(light.gain / softer_by),
             along_x = static_cast<float>(light.along_x / softer_by),
             along_y = static_cast<float>(light.along_y / softer_by);
  for (size_t i = 0; i < samples.count; ++i)
    column[i] = (gain + along_x * samples.x[i] + along_y * samples.y[i]) * (column[i] - samples.value[i]);
  ExtraRegressors further = find_further(problem, look.step(), look.roots, {column.data(), nullptr, nullptr});
  // The taught noise is in the residuals and, blurred otherwise, in the column: by itself it looks like blur.
  static const double at_first = noise_loss(0);
  further.left[0] -= look.weights.psi_derivative_sum * std::pow(light.gain * model.noise_sigma, 2) *
                     (variance == 0 ? at_first : noise_loss(variance)) / softer_by;
  const double excess = look.solved.squares - noise * noise * look.weights.sum;
  const Further<1> more(further, look.solved.inverse(), look.free);
  const bool is_blur = variance != 0 || (more.beyond_doubt(noise) && more.squares > 0.25 * excess);
  return is_blur && more.good ? more.found[0] * more.unit[0] : 0;
}

BentLight bent_light(const FitState& look, const GreyMatrix& inverse, FurtherScratch& s) {
  BentLight bent;
  const GreyProblem& problem = look.problem;
  if (!problem.falls_steeply()) return bent;
  const GreySamples& samples = problem.samples;
  FurtherColumns columns;
  for (size_t k = 0; k < columns.size(); ++k)
    s.columns[k].resize(samples.x.size()), columns[k] = s.columns[k].data();
  const auto per = static_cast<float>(1 / problem.size);
  for (size_t i = 0; i < samples.x.size(); ++i) {
    const float x = samples.x[i] * per, y = samples.y[i] * per, value = samples.value[i];
    s.columns[0][i] = value * x * x, s.columns[1][i] = value * x * y, s.columns[2][i] = value * y * y;
  }
  const double slope = problem.size * std::hypot(problem.light.along_x, problem.light.along_y) /
                       problem.gain_in_the_middle(),
               likely = 0.5 * slope * slope * problem.gain_in_the_middle();
  const Further<3> bends(find_further(problem, look.step(), look.roots, columns), inverse, look.free,
                         std::pow(look.scatter / likely, 2));
  if (!bends.good) return bent;
  bent.shift = -bends.moves * bends.found;
  bent.bends = bends.unit.cwiseProduct(bends.found);
  bent.covariance = (look.scatter * look.scatter * bends.moves * bends.solver.solve(bends.moves.transpose()))
                        .topLeftCorner<4, 4>();
  return bent;
}

void straighten(GreySamples& samples, const BentLight& bent, const FurtherScratch& s) {
  if (bent.bends.isZero(0)) return;
  const Eigen::Vector3f bends = bent.bends.cast<float>();
  for (size_t i = 0; i < samples.count; ++i)
    samples.grey[i] -= bends[0] * s.columns[0][i] + bends[1] * s.columns[1][i] + bends[2] * s.columns[2][i];
}

}  // namespace heron
