#include "locate/cells.hpp"

#include <doctest/doctest.h>

#include <Eigen/Cholesky>
#include <array>

#include "heron/render/random.hpp"

using namespace heron;

namespace {

constexpr int cells_across = 24, cells_down = 18;
using Pulls = std::vector<Eigen::Vector4f>;

Pulls white_pulls(render::Random& random) {
  Pulls pulls(cells_across * cells_down);
  for (Eigen::Vector4f& pull : pulls)
    for (int k = 0; k < 4; ++k) pull[k] = static_cast<float>(random.normal());
  return pulls;
}

/// Each cell as the mean of the four from it on, times two, so that its variance stays.
Pulls coarse_pulls(render::Random& random) {
  const Pulls fine = white_pulls(random);
  Pulls pulls(fine.size(), Eigen::Vector4f::Zero());
  for (int y = 0; y + 1 < cells_down; ++y)
    for (int x = 0; x + 1 < cells_across; ++x) {
      const auto at = [&](int u, int v) { return fine[static_cast<size_t>((y + v) * cells_across + x + u)]; };
      pulls[static_cast<size_t>(y * cells_across + x)] = (at(0, 0) + at(1, 0) + at(0, 1) + at(1, 1)) / 2;
    }
  return pulls;
}

/// What the sum of all cells varies by over many draws, and the mean of what is told of it.
template <class Draw>
std::array<double, 3> told_and_true(Draw draw) {
  render::Random random(9);
  double squares = 0, alone = 0, with_neighbours = 0;
  const int draws = 400;
  for (int i = 0; i < draws; ++i) {
    const Pulls pulls = draw(random);
    Eigen::Vector4d sum = Eigen::Vector4d::Zero();
    for (const Eigen::Vector4f& pull : pulls) sum += pull.cast<double>();
    squares += sum.squaredNorm() / 4 / draws;
    alone += covariance_of_cells(pulls, Eigen::Matrix4d(Eigen::Matrix4d::Identity()), 4).trace() / 4 / draws;
    with_neighbours += covariance_of_neighbours(pulls, cells_across, 4).trace() / 4 / draws;
  }
  return {squares, alone, with_neighbours};
}

}  // namespace

TEST_CASE(
    "what cells share with those around them is in the covariance, and white noise makes it little larger") {
  const auto [squares, alone, with_neighbours] = told_and_true(white_pulls);
  CHECK(alone == doctest::Approx(squares).epsilon(0.1));
  CHECK(with_neighbours < 1.15 * alone);
  const auto [coarse_squares, coarse_alone, coarse_neighbours] = told_and_true(coarse_pulls);
  CHECK(coarse_alone < 0.4 * coarse_squares);
  CHECK(coarse_neighbours > 0.5 * coarse_squares);
  CHECK(coarse_neighbours < 1.1 * coarse_squares);
}

TEST_CASE("what neighbours add leaves a covariance, also where there is nothing") {
  render::Random random(10);
  const Eigen::Matrix4d covariance = covariance_of_neighbours(white_pulls(random), cells_across, 4);
  CHECK((covariance - covariance.transpose()).norm() < 1e-9 * covariance.norm());
  CHECK(covariance.llt().info() == Eigen::Success);
  CHECK(covariance_of_neighbours(Pulls(cells_across * cells_down, Eigen::Vector4f::Zero()), cells_across, 4)
            .norm() == 0);
}
