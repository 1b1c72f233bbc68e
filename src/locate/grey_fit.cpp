#include <Eigen/Cholesky>
#include <utility>

#include "cells.hpp"
#include "grey_blur.hpp"
#include "grey_sums.hpp"
#include "nth_smallest.hpp"

namespace heron {
namespace {

constexpr auto unknowns = static_cast<Eigen::Index>(grey_unknowns),
               first_light = static_cast<Eigen::Index>(first_light_unknown);
using Matrix = Eigen::Matrix<double, unknowns, unknowns>;
using Vector = Eigen::Matrix<double, unknowns, 1>;
using Free = std::array<bool, grey_unknowns>;

struct GreyScratch {
  GreySamples samples, some, softer;
  Image<float> blurred, softer_blurred;
  std::vector<float> residuals, roots, some_roots;       // of some samples; of the weights
  std::array<std::vector<float>, most_further> further;  // columns
  GreyPulls pulls;
};

/// The products as a matrix: unknowns, and what is left.
struct Normal {
  explicit Normal(const GreyProducts& products) {
    for (Eigen::Index i = 0, k = 0; i <= unknowns; ++i)
      for (Eigen::Index j = i; j <= unknowns; ++j, ++k)
        all(i, j) = all(j, i) = products[static_cast<size_t>(k)];
  }
  Eigen::Matrix<double, unknowns + 1, unknowns + 1> all;
};

/// One least-squares problem, of which some unknowns are held at zero.
class Solved {
 public:
  /// `noise` is what the taught picture's noise adds to the columns' products by itself.
  Solved(const Normal& normal, const Free& free, const Matrix& noise = Matrix::Zero()) {
    Matrix a = normal.all.topLeftCorner<unknowns, unknowns>() - noise;
    Vector b = normal.all.topRightCorner<unknowns, 1>();
    for (Eigen::Index i = 0; i < unknowns; ++i)
      if (!free[static_cast<size_t>(i)]) a.row(i).setZero(), a.col(i).setZero(), a(i, i) = 1, b[i] = 0;
    // One scale for all unknowns before solving, so that units do not matter.
    for (Eigen::Index i = 0; i < unknowns; ++i) to_unit_[i] = a(i, i) > 0 ? 1 / std::sqrt(a(i, i)) : 1;
    solver_.compute(to_unit_.asDiagonal() * a * to_unit_.asDiagonal());
    good = solver_.info() == Eigen::Success && solver_.vectorD().minCoeff() > 1e-6;
    if (!good) return;
    x = to_unit_.cwiseProduct(solver_.solve(to_unit_.cwiseProduct(b)));
    squares = std::max(0.0, normal.all(unknowns, unknowns) - b.dot(x));
  }
  Matrix inverse() const {
    return to_unit_.asDiagonal() * solver_.solve(Matrix::Identity()) * to_unit_.asDiagonal();
  }
  bool good = false;
  Vector x;
  double squares = 0;  ///< left after it

 private:
  Vector to_unit_;
  Eigen::LDLT<Matrix> solver_;
};

/// What the grey values themselves differ by among each other, squared and added up.
double squares_of_greys(const Normal& normal, const GreyLight& light, double size) {
  Eigen::Matrix<double, unknowns + 1, 1> grey = Eigen::Matrix<double, unknowns + 1, 1>::Zero();
  grey.segment<4>(first_light) << light.gain, light.along_x * size, light.along_y * size, light.offset;
  grey[unknowns] = 1;
  const Eigen::Matrix<double, unknowns + 1, 1> products = normal.all * grey;
  const double sum = products[unknowns - 1];
  return std::max(0.0, grey.dot(products) - sum * sum / normal.all(unknowns - 1, unknowns - 1));
}

/// From the smaller four tenths of what a step leaves, which a cover that reaches in does not touch; a
/// thousand samples tell it well enough.
double scatter_after(const GreyStep& step, const GreyProblem& problem, std::vector<float>& residuals) {
  some_residuals(problem, step, 1000, residuals);
  for (float& r : residuals) r = std::abs(r);
  return std::max(0.3, static_cast<double>(nth_smallest(residuals, residuals.size() * 4 / 10)) / 0.5244);
}

/// What the taught picture's noise adds to the products of the columns that a pose moves: its slope is noise
/// as well, and taken for structure it would shorten every step and promise too much.
Matrix noise_of_slopes(const GreyWeights& m, double noise_sigma, double gain) {
  constexpr double slope_noise = 2.163;  // mean square of the cardinal cubic spline's slope, over all places
  Matrix noise = Matrix::Zero();
  noise.topLeftCorner<4, 4>() << m.sum, 0, -m.y, m.x,  //
      0, m.sum, m.x, m.y,                              //
      -m.y, m.x, m.squares, 0,                         //
      m.x, m.y, 0, m.squares;
  return noise * (slope_noise * noise_sigma * noise_sigma * gain * gain);
}

/// Covariance of the unknowns from what the residuals of whole cells of the part add up to: right for noise
/// that neighbouring pixels share, and for surfaces that differ a little, as well as for white noise.
Eigen::Matrix4d grey_covariance_of(GreyScratch& s, const GreyProblem& problem, const GreyStep& step,
                                   const GreyModel& model, const Matrix& inverse) {
  GreyInfluence influence;
  Eigen::Map<Eigen::Matrix<double, 4, unknowns, Eigen::RowMajor>>(influence.data()) = inverse.topRows<4>();
  const GreyCells cells{model.origin, cell_size, static_cast<int>(model.coefficients.width() / cell_size) + 2,
                        static_cast<int>(model.coefficients.height() / cell_size) + 2};
  find_pulls(problem, step, s.roots, influence, cells, s.pulls);
  return covariance_of_neighbours(s.pulls, cells.across, grey_unknowns);
}

/// The first `n` further columns, solved for beside the unknowns, of which `inverse` is that of the normal
/// matrix.
template <int n>
struct Further {
  Further(GreyFurther f, const Matrix& inverse, const Free& free) {
    for (Eigen::Index i = 0; i < unknowns; ++i)
      if (!free[static_cast<size_t>(i)]) f.with.col(i).setZero();
    const Eigen::Matrix<double, unknowns, n> carried = inverse * f.with.topRows<n>().transpose();
    // In units in which each column alone is as large.
    unit = f.own.topLeftCorner<n, n>().diagonal().cwiseSqrt().cwiseInverse();
    const Eigen::Matrix<double, n, n> own = f.own.topLeftCorner<n, n>() - f.with.topRows<n>() * carried;
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

  bool good = false;                         ///< they can be told from each other and from the unknowns
  Eigen::Matrix<double, n, 1> unit, found;   ///< `found` times `unit` are the columns' shares
  double squares = 0;                        ///< that they explain
  Eigen::Matrix<double, unknowns, n> moves;  ///< of the unknowns, by each of `found`
  Eigen::LDLT<Eigen::Matrix<double, n, n>> solver;
};

/// What light that bends over the part does to a step that knows it as linear.
struct Bent {
  Vector shift = Vector::Zero();
  Eigen::Matrix4d covariance = Eigen::Matrix4d::Zero();  ///< of the shift's first unknowns
};

/// Light that falls off steeply over the part bends as well, since the taught picture had a light of its own:
/// the gain changes with x^2, xy and y^2. Where the residuals show it beyond doubt, these are solved for with
/// the unknowns; elsewhere they would answer to what they are not, and take from what holds place and scale.
Bent bent_light(const GreyProblem& problem, const GreyStep& step, GreyScratch& s, const Matrix& inverse,
                const Free& free, double scatter) {
  constexpr double steep = 0.13;  // of the gain, from the part's middle to its corners
  Bent bent;
  const GreyLight& light = problem.light;
  if (problem.size * std::hypot(light.along_x, light.along_y) < steep * std::abs(light.gain)) return bent;
  const GreySamples& samples = problem.samples;
  FurtherColumns columns;
  for (size_t k = 0; k < columns.size(); ++k)
    s.further[k].resize(samples.x.size()), columns[k] = s.further[k].data();
  const auto per = static_cast<float>(1 / problem.size);
  for (size_t i = 0; i < samples.x.size(); ++i) {
    const float x = samples.x[i] * per, y = samples.y[i] * per, value = samples.value[i];
    s.further[0][i] = value * x * x, s.further[1][i] = value * x * y, s.further[2][i] = value * y * y;
  }
  const Further<3> bends(find_further(problem, step, s.roots, columns), inverse, free);
  if (!bends.beyond_doubt(scatter)) return bent;
  bent.shift = -bends.moves * bends.found;
  bent.covariance =
      (scatter * scatter * bends.moves * bends.solver.solve(bends.moves.transpose())).topLeftCorner<4, 4>();
  return bent;
}

/// A quarter of the samples, a few beside each other at a time, and their weights' roots.
void take_some(GreyScratch& s) {
  constexpr size_t few = 16, every = 4 * few, widest_vector = 64;
  const size_t count = s.samples.count;
  const auto take = [&](const std::vector<float>& all, std::vector<float>& some) {
    some.assign(count / every * few + few + widest_vector, 0);
    size_t taken = 0;
    for (size_t i = 0; i + few <= count; i += every, taken += few)
      std::copy_n(all.begin() + static_cast<std::ptrdiff_t>(i), few,
                  some.begin() + static_cast<std::ptrdiff_t>(taken));
    return taken;
  };
  s.some.base = s.softer.base = s.samples.base;
  s.some.count = s.softer.count = take(s.roots, s.some_roots);
  for (std::vector<float> GreySamples::*column :
       {&GreySamples::across, &GreySamples::down, &GreySamples::grey, &GreySamples::x, &GreySamples::y,
        &GreySamples::value, &GreySamples::dx, &GreySamples::dy}) {
    take(s.samples.*column, s.some.*column);
    (s.softer.*column).resize((s.some.*column).size());
  }
  s.softer.across = s.some.across, s.softer.down = s.some.down;
}

/// By how much the taught noise is less like itself behind a little more blur.
double noise_loss(double variance) {
  return noise_behind(variance, variance) - noise_behind(variance, variance + softer_by);
}

/// How much more blur than `variance`, square pixels, the residuals of a part of the samples show beyond
/// doubt; 0 where most of what they leave beyond `noise` comes from something else. `growth` is how weighted
/// residuals grow with residuals.
double more_blur(const GreyProblem& problem, const GreyStep& step, GreyScratch& s, const GreyModel& model,
                 const Similarity2& pose, double variance, const Solved& solved, const Free& free,
                 double noise, double growth) {
  if (variance != 0) blur(model.coefficients, variance + softer_by, s.softer_blurred);
  take_some(s);
  evaluate_grey_samples(variance == 0 ? model.softer : s.softer_blurred, model.origin, pose, s.softer);
  std::vector<float>& column = s.further[0];
  column.assign(s.some.x.size(), 0);
  const GreyLight& light = problem.light;
  for (size_t i = 0; i < s.some.count; ++i) {
    const double gain = light.gain + light.along_x * s.some.x[i] + light.along_y * s.some.y[i];
    column[i] = static_cast<float>(gain / softer_by) * (s.softer.value[i] - s.some.value[i]);
  }
  double weights = 0;
  for (const float root : s.some_roots) weights += static_cast<double>(root * root);
  GreyFurther further =
      find_further({s.some, light, problem.size}, step, s.some_roots, {column.data(), nullptr, nullptr});
  // The taught noise is in the residuals and, blurred otherwise, in the column: by itself it looks like blur.
  static const double at_first = noise_loss(0);
  further.left[0] -= weights * growth * std::pow(light.gain * model.noise_sigma, 2) *
                     (variance == 0 ? at_first : noise_loss(variance)) / softer_by;
  const double share = static_cast<double>(s.some.count) / static_cast<double>(s.samples.count),
               excess = solved.squares * share - noise * noise * weights;
  const Further<1> more(further, solved.inverse() / share, free);
  return more.beyond_doubt(noise) && more.squares > 0.25 * excess ? more.found[0] * more.unit[0] : 0;
}

GreyLight changed(const GreyLight& light, const Vector& x, double size) {
  return {light.gain + x[first_light], light.along_x + x[first_light + 1] / size,
          light.along_y + x[first_light + 2] / size, light.offset + x[first_light + 3]};
}

GreyStep step_of(const Vector& x) {
  GreyStep step{};
  for (size_t k = 0; k < step.size(); ++k) step[k] = x[static_cast<Eigen::Index>(k)];
  return step;
}

/// How far the part's outer pixels move by a step.
double shift_of(const Vector& x, double size) {
  return std::hypot(x[0], x[1]) + size * (std::abs(x[2]) + std::abs(x[3]));
}

Similarity2 moved(const Similarity2& pose, const Vector& x) {
  const Point2 shift = rotated(Point2{x[0], x[1]}, pose.angle) * pose.scale;
  return {pose.x + shift.x, pose.y + shift.y, (pose.angle + radians(x[2])).wrapped(),
          pose.scale * std::exp(x[3])};
}

}  // namespace

GreyFit fit_greys(const Image<uint8_t>& picture, const GreyModel& model, const std::vector<float>& seen,
                  const Similarity2& start, const GreySearch& search) {
  static thread_local GreyScratch s;
  constexpr size_t least_pixels = 60;
  constexpr double far = 0.7, settled = 0.07,  // pixels
      rough = 1.15,                            // of the squares that noise alone leaves
      most_blur = 4, least_change = 0.03;      // square pixels
  const Free all{true, true, search.free_angle, search.free_scale, true, true, true, true};
  GreyFit fit;
  fit.pose = start;
  collect_grey_samples(picture, model, seen, start, s.samples);
  if (s.samples.count < least_pixels) return fit;
  GreyProblem problem{
      s.samples, {}, 0.5 * std::hypot(model.coefficients.width(), model.coefficients.height())};
  double blurred = 0;  // the taught surface, by so many square pixels
  int blurs_left = 3;
  bool anew = true;
  for (int round = 0, last = 2; round <= last; ++round) {
    const Similarity2 at = fit.pose;
    evaluate_grey_samples(blurred == 0 ? model.coefficients : s.blurred, model.origin, at, s.samples);
    GreyStep step{};
    if (std::exchange(anew, false)) {  // light and a first step, so that residuals show what does not belong
      const double gain_before = problem.light.gain;
      const Solved first(Normal(grey_products(problem)), all);
      if (!first.good) return fit;
      problem.light = changed(problem.light, first.x, problem.size);
      // What moved the grey values was the step times the gain, which was taken for another so far.
      const Vector moves = first.x * (gain_before / problem.light.gain);
      if (!(shift_of(moves, problem.size) <= 2 * far)) return fit;
      for (size_t k = 0; k < first_light_unknown; ++k) step[k] = moves[static_cast<Eigen::Index>(k)];
    }
    const double scatter = scatter_after(step, problem, s.residuals);
    const GreyWeights weights = weigh(problem, step, 4.685 * scatter, s.roots);
    const Normal normal(weights.products);
    const double taught_noise = model.noise_sigma * (blurred == 0 ? 1 : std::sqrt(slope_noise_left(blurred)));
    const Solved solved(normal, all, noise_of_slopes(weights, taught_noise, problem.light.gain));
    if (!solved.good || weights.sum < 0.4 * static_cast<double>(s.samples.count)) return fit;
    const double shift = shift_of(solved.x, problem.size);
    fit.pose = moved(fit.pose, solved.x);
    if (shift > far) return fit;
    if (shift > settled && round < last) {
      problem.light = changed(problem.light, solved.x, problem.size);
      continue;
    }
    const GreyStep done = step_of(solved.x);
    const double noise =
        std::max(0.3, std::hypot(search.noise_sigma, 0.8 * problem.light.gain * model.noise_sigma));
    if ((blurred != 0 || solved.squares > rough * noise * noise * weights.sum) && blurs_left-- > 0) {
      const double more = more_blur(problem, done, s, model, at, blurred, solved, all, noise,
                                    weights.answers / weights.sum),
                   next = std::clamp(blurred + more, least_blur, most_blur);
      if (std::abs(next - blurred) > least_change) {
        blurred = next, last = round + 2, anew = true;
        blur(model.coefficients, blurred, s.blurred);
        problem.light = changed(problem.light, solved.x, problem.size);
        continue;
      }
    }

    // Where the taught surface explains less than half of what the light alone leaves unexplained, it is
    // another one, whatever its edges say.
    if (solved.squares > 0.5 * squares_of_greys(normal, problem.light, problem.size)) return fit;
    const Matrix inverse = solved.inverse();
    const Bent bent = bent_light(problem, done, s, inverse, all, scatter);
    if (!(shift_of(bent.shift, problem.size) < settled)) return fit;  // no light: another surface
    fit.pose = moved(fit.pose, bent.shift);
    const Eigen::Matrix4d covariance =
        bent.covariance +
        grey_covariance_of(s, problem, done, model, inverse * growth_of(weights.sum, weights.answers));
    const double c = cos(fit.pose.angle), sn = sin(fit.pose.angle);
    const auto along = [&](Point2 u) { return fit.pose.scale * sigma_along(covariance, u); };
    fit.sigma = {along({c, -sn}), along({sn, c}),
                 search.free_angle ? radians(std::sqrt(covariance(2, 2))) : Angle{},
                 search.free_scale ? std::sqrt(covariance(3, 3)) * fit.pose.scale : 0};
    fit.fitted = true;
    return fit;
  }
  return fit;
}

}  // namespace heron
