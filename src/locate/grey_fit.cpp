#include <Eigen/Cholesky>
#include <array>

#include "cells.hpp"
#include "grey_samples.hpp"

namespace heron {
namespace {

constexpr int most_unknowns = grey_unknowns, first_light = first_light_unknown;
using Matrix = Eigen::Matrix<double, most_unknowns, most_unknowns>;
using Vector = Eigen::Matrix<double, most_unknowns, 1>;

struct GreyScratch {
  GreySamples samples;
  GreyColumns columns, weighted;
  std::vector<float> residuals, sizes, roots;  // roots of the weights
  std::vector<Eigen::Matrix<float, most_unknowns, 1>> cells;
};

/// One least-squares problem over columns, of which some unknowns are held at zero.
struct Solved {
  bool good = false;
  Vector x;
  Matrix inverse;
  double squares = 0;
};

/// `noise` is what the taught picture's noise adds to the columns' products by itself.
Solved solve(const GreyColumns& all, size_t count, const std::array<bool, most_unknowns>& free,
             const Matrix& noise = Matrix::Zero()) {
  const auto& columns = all.columns;
  Matrix a = Matrix::Identity();
  Vector b = Vector::Zero();
  const std::vector<float>& grey = columns[most_unknowns];
  for (int i = 0; i < most_unknowns; ++i) {
    if (!free[static_cast<size_t>(i)]) continue;
    const float* left = columns[static_cast<size_t>(i)].data();
    b[i] = column_product(left, grey.data(), count);
    for (int j = 0; j <= i; ++j)
      if (free[static_cast<size_t>(j)])
        a(i, j) = a(j, i) = column_product(left, columns[static_cast<size_t>(j)].data(), count) - noise(i, j);
  }
  // One scale for all unknowns before solving, so that units do not matter.
  Vector to_unit;
  for (int i = 0; i < most_unknowns; ++i) to_unit[i] = a(i, i) > 0 ? 1 / std::sqrt(a(i, i)) : 1;
  const Matrix scaled = to_unit.asDiagonal() * a * to_unit.asDiagonal();
  const Eigen::LDLT<Matrix> solver(scaled);
  Solved solved;
  solved.good = solver.info() == Eigen::Success && solver.vectorD().minCoeff() > 1e-6;
  if (!solved.good) return solved;
  solved.inverse = to_unit.asDiagonal() * solver.solve(Matrix::Identity()) * to_unit.asDiagonal();
  solved.x = solved.inverse * b;
  solved.squares = std::max(0.0, column_product(grey.data(), grey.data(), count) - b.dot(solved.x));
  return solved;
}

/// From the smaller four tenths of the residuals, which a cover that reaches in does not touch; every third
/// one tells it well enough.
double scatter_of(GreyScratch& s) {
  s.sizes.clear();
  for (size_t i = 0; i < s.samples.count; i += 3) s.sizes.push_back(std::abs(s.residuals[i]));
  const auto at = s.sizes.begin() + static_cast<std::ptrdiff_t>(s.sizes.size() * 4 / 10);
  std::nth_element(s.sizes.begin(), at, s.sizes.end());
  return static_cast<double>(*at) / 0.5244;
}

/// What the taught picture's noise adds to the products of the columns that a pose moves: its slope is noise
/// as well, and taken for structure it would shorten every step and promise too much.
Matrix noise_of_slopes(const GreyScratch& s, double noise_sigma, double gain) {
  constexpr double slope_noise = 2.163;  // mean square of the cardinal cubic spline's slope, over all places
  const GreyMoments m = moments_of(s.samples, s.roots);
  Matrix noise = Matrix::Zero();
  noise.topLeftCorner<4, 4>() << m.sum, 0, -m.y, m.x,  //
      0, m.sum, m.x, m.y,                              //
      -m.y, m.x, m.squares, 0,                         //
      m.x, m.y, 0, m.squares;
  return noise * (slope_noise * noise_sigma * noise_sigma * gain * gain);
}

/// Covariance of the unknowns from what the residuals of whole cells of the part add up to: right for noise
/// that neighbouring pixels share, and for surfaces that differ a little, as well as for white noise.
Matrix grey_covariance_of(GreyScratch& s, const GreyModel& model, const Matrix& inverse) {
  constexpr auto per = static_cast<float>(1 / cell_size);
  const GreySamples& g = s.samples;
  const int across = static_cast<int>(model.nearest.width() / cell_size) + 2,
            down = static_cast<int>(model.nearest.height() / cell_size) + 2;
  s.cells.assign(static_cast<size_t>(across * down), decltype(s.cells)::value_type::Zero());
  const auto from_x = static_cast<float>(model.origin.x), from_y = static_cast<float>(model.origin.y);
  for (size_t i = 0; i < g.count; ++i) {
    const int at =
        static_cast<int>((g.y[i] + from_y) * per) * across + static_cast<int>((g.x[i] + from_x) * per);
    auto& cell = s.cells[static_cast<size_t>(at)];
    const float pull = s.residuals[i] * s.roots[i];
    for (size_t k = 0; k < most_unknowns; ++k)
      cell[static_cast<Eigen::Index>(k)] += s.weighted.columns[k][i] * pull;
  }
  return covariance_of_cells(s.cells, inverse);
}

GreyLight light_of(const Vector& x, double size) {
  return {static_cast<float>(x[first_light]), static_cast<float>(x[first_light + 1] / size),
          static_cast<float>(x[first_light + 2] / size)};
}

std::array<float, grey_unknowns> shares_of(const Vector& x) {
  std::array<float, grey_unknowns> shares{};
  for (size_t k = 0; k < shares.size(); ++k) shares[k] = static_cast<float>(x[static_cast<Eigen::Index>(k)]);
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
  constexpr double far = 0.7, settled = 0.04;  // pixels
  const std::array<bool, most_unknowns> light_alone{false, false, false, false, true, true, true, true};
  const std::array<bool, most_unknowns> all{true, true, free_angle, free_scale, true, true, true, true};
  const double size = 0.5 * std::hypot(model.nearest.width(), model.nearest.height());
  GreyFit fit;
  fit.pose = start;
  for (int round = 0; round < 3; ++round) {
    take_grey_samples(picture, model, seen, fit.pose, s.samples);
    const size_t count = s.samples.count;
    if (count < least_pixels) return fit;
    fill_columns(s.samples, {}, size, s.columns);
    const Solved light = solve(s.columns, count, light_alone);
    if (!light.good) return fit;
    fill_columns(s.samples, light_of(light.x, size), size, s.columns);
    Solved step = solve(s.columns, count, all);
    if (!step.good || shift_of(step.x, size) > 2 * far) return fit;
    find_residuals(s.columns, shares_of(step.x), count, s.residuals);
    const double scatter = std::max(0.3, scatter_of(s));
    const GreyWeights weights =
        apply_weights(s.columns, s.residuals, 4.685 * scatter, count, s.weighted, s.roots);
    step = solve(s.weighted, count, all, noise_of_slopes(s, model.noise_sigma, light.x[first_light]));
    if (!step.good || weights.sum < 0.4 * static_cast<double>(count)) return fit;
    fit.pose = moved(fit.pose, step.x);
    if (shift_of(step.x, size) > far) return fit;
    if (shift_of(step.x, size) > settled && round < 2) continue;

    // Where the taught surface explains less than half of what the light alone leaves unexplained, it is
    // another one, whatever its edges say.
    std::array<bool, most_unknowns> offset_alone{};
    offset_alone[most_unknowns - 1] = true;
    if (step.squares > 0.5 * solve(s.weighted, count, offset_alone).squares) return fit;
    find_residuals(s.columns, shares_of(step.x), count, s.residuals);
    const Matrix covariance =
        grey_covariance_of(s, model, step.inverse * growth_of(weights.sum, weights.answers));
    const double c = cos(fit.pose.angle), sn = sin(fit.pose.angle);
    const auto along = [&](double u, double v) {
      return fit.pose.scale *
             std::sqrt(u * u * covariance(0, 0) + 2 * u * v * covariance(0, 1) + v * v * covariance(1, 1));
    };
    fit.sigma = {along(c, -sn), along(sn, c), free_angle ? radians(std::sqrt(covariance(2, 2))) : Angle{},
                 free_scale ? std::sqrt(covariance(3, 3)) * fit.pose.scale : 0};
    fit.fitted = true;
    return fit;
  }
  return fit;
}

}  // namespace heron
