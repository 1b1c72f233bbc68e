#include <Eigen/Cholesky>

#include "cells.hpp"
#include "grey_sums.hpp"

namespace heron {
namespace {

constexpr auto unknowns = static_cast<Eigen::Index>(grey_unknowns),
               first_light = static_cast<Eigen::Index>(first_light_unknown);
using Matrix = Eigen::Matrix<double, unknowns, unknowns>;
using Vector = Eigen::Matrix<double, unknowns, 1>;
using Free = std::array<bool, grey_unknowns>;

struct GreyScratch {
  GreySamples samples;
  std::vector<float> residuals, sizes, roots, pulls;  // roots of the weights
  std::vector<Eigen::Vector4f> cells;
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

/// From the smaller four tenths of the residuals, which a cover that reaches in does not touch; a thousand of
/// them tell it well enough.
double scatter_of(GreyScratch& s) {
  s.sizes.clear();
  const size_t step = std::max<size_t>(3, s.samples.count / 1000);
  for (size_t i = 0; i < s.samples.count; i += step) s.sizes.push_back(std::abs(s.residuals[i]));
  const auto at = s.sizes.begin() + static_cast<std::ptrdiff_t>(s.sizes.size() * 4 / 10);
  std::nth_element(s.sizes.begin(), at, s.sizes.end());
  return static_cast<double>(*at) / 0.5244;
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
Eigen::Matrix4d grey_covariance_of(GreyScratch& s, const GreyProblem& problem, const GreyModel& model,
                                   const Matrix& inverse) {
  constexpr auto per = static_cast<float>(1 / cell_size);
  const GreySamples& g = s.samples;
  GreyInfluence influence;
  Eigen::Map<Eigen::Matrix<double, 4, unknowns, Eigen::RowMajor>>(influence.data()) = inverse.topRows<4>();
  find_pulls(problem, s.residuals, s.roots, influence, s.pulls);
  const int across = static_cast<int>(model.nearest.width() / cell_size) + 2,
            down = static_cast<int>(model.nearest.height() / cell_size) + 2;
  s.cells.assign(static_cast<size_t>(across * down), Eigen::Vector4f::Zero());
  const auto from_x = static_cast<float>(model.origin.x), from_y = static_cast<float>(model.origin.y);
  Eigen::Vector4f sum = Eigen::Vector4f::Zero();  // of neighbours in one cell, which mostly follow each other
  size_t cell = 0;
  for (size_t i = 0; i < g.count; ++i) {
    const auto at = static_cast<size_t>(static_cast<int>((g.y[i] + from_y) * per) * across +
                                        static_cast<int>((g.x[i] + from_x) * per));
    if (at != cell) s.cells[cell] += sum, sum.setZero(), cell = at;
    sum += Eigen::Map<const Eigen::Vector4f>(s.pulls.data() + 4 * i);
  }
  s.cells[cell] += sum;
  return covariance_of_cells(s.cells, Eigen::Matrix4d(Eigen::Matrix4d::Identity()), grey_unknowns);
}

GreyLight changed(const GreyLight& light, const Vector& x, double size) {
  return {light.gain + x[first_light], light.along_x + x[first_light + 1] / size,
          light.along_y + x[first_light + 2] / size, light.offset + x[first_light + 3]};
}

std::array<double, grey_unknowns> shares_of(const Vector& x) {
  std::array<double, grey_unknowns> shares{};
  for (size_t k = 0; k < shares.size(); ++k) shares[k] = x[static_cast<Eigen::Index>(k)];
  return shares;
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
                  const Similarity2& start, bool free_angle, bool free_scale) {
  static thread_local GreyScratch s;
  constexpr size_t least_pixels = 60;
  constexpr double far = 0.7, settled = 0.07;  // pixels
  const Free light_alone{false, false, false, false, true, true, true, true};
  const Free all{true, true, free_angle, free_scale, true, true, true, true};
  GreyFit fit;
  fit.pose = start;
  collect_grey_samples(picture, model, seen, start, s.samples);
  if (s.samples.count < least_pixels) return fit;
  GreyProblem problem{s.samples, {}, 0.5 * std::hypot(model.nearest.width(), model.nearest.height())};
  for (int round = 0; round < 3; ++round) {
    evaluate_grey_samples(model, fit.pose, s.samples);
    Vector step = Vector::Zero();
    if (round == 0) {  // the light alone, then a first step, so that residuals show what does not belong
      const Solved light(Normal(light_products(problem)), light_alone);
      if (!light.good) return fit;
      problem.light = changed(problem.light, light.x, problem.size);
      const Solved first(Normal(grey_products(problem)), all);
      if (!first.good || shift_of(first.x, problem.size) > 2 * far) return fit;
      step = first.x;
    }
    find_residuals(problem, shares_of(step), s.residuals);
    const double scatter = std::max(0.3, scatter_of(s));
    const GreyWeights weights = weigh(s.samples, s.residuals, 4.685 * scatter, s.roots);
    const Normal normal(grey_products(problem, s.roots));
    const Solved solved(normal, all, noise_of_slopes(weights, model.noise_sigma, problem.light.gain));
    if (!solved.good || weights.sum < 0.4 * static_cast<double>(s.samples.count)) return fit;
    const double shift = shift_of(solved.x, problem.size);
    fit.pose = moved(fit.pose, solved.x);
    if (shift > far) return fit;
    if (shift > settled && round < 2) {
      problem.light = changed(problem.light, solved.x, problem.size);
      continue;
    }

    // Where the taught surface explains less than half of what the light alone leaves unexplained, it is
    // another one, whatever its edges say.
    if (solved.squares > 0.5 * squares_of_greys(normal, problem.light, problem.size)) return fit;
    find_residuals(problem, shares_of(solved.x), s.residuals);
    const Eigen::Matrix4d covariance =
        grey_covariance_of(s, problem, model, solved.inverse() * growth_of(weights.sum, weights.answers));
    const double c = cos(fit.pose.angle), sn = sin(fit.pose.angle);
    const auto along = [&](Point2 u) { return fit.pose.scale * sigma_along(covariance, u); };
    fit.sigma = {along({c, -sn}), along({sn, c}), free_angle ? radians(std::sqrt(covariance(2, 2))) : Angle{},
                 free_scale ? std::sqrt(covariance(3, 3)) * fit.pose.scale : 0};
    fit.fitted = true;
    return fit;
  }
  return fit;
}

}  // namespace heron
