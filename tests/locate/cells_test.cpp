#include "locate/common/cells.hpp"

#include <doctest/doctest.h>

#include <Eigen/Cholesky>
#include <array>

#include "heron/render/random.hpp"
#include "locate/common/best_mean.hpp"

using namespace heron;

namespace {

constexpr int cells_across = 24, cells_down = 18;
using Pulls = std::vector<Eigen::Vector4f>;

Pulls white_pulls(render::Random& random) {
  Pulls contributions(cells_across * cells_down);
  for (Eigen::Vector4f& contribution : contributions)
    for (int k = 0; k < 4; ++k) contribution[k] = static_cast<float>(random.normal());
  return contributions;
}

/// Each cell as the mean of the four from it on, times two, so that its variance stays.
Pulls coarse_pulls(render::Random& random) {
  const Pulls fine = white_pulls(random);
  Pulls contributions(fine.size(), Eigen::Vector4f::Zero());
  for (int y = 0; y + 1 < cells_down; ++y)
    for (int x = 0; x + 1 < cells_across; ++x) {
      const auto at = [&](int u, int v) { return fine[static_cast<size_t>((y + v) * cells_across + x + u)]; };
      contributions[static_cast<size_t>(y * cells_across + x)] =
          (at(0, 0) + at(1, 0) + at(0, 1) + at(1, 1)) / 2;
    }
  return contributions;
}

/// What the sum of all cells varies by over many draws, and the mean of what is told of it.
template <class Draw>
std::array<double, 3> told_and_true(Draw draw) {
  render::Random random(9);
  double squares = 0, alone = 0, with_neighbours = 0;
  const int draws = 400;
  for (int i = 0; i < draws; ++i) {
    const Pulls contributions = draw(random);
    Eigen::Vector4d sum = Eigen::Vector4d::Zero();
    for (const Eigen::Vector4f& contribution : contributions) sum += contribution.cast<double>();
    squares += sum.squaredNorm() / 4 / draws;
    alone += covariance_of_cells(contributions, Eigen::Matrix4d(Eigen::Matrix4d::Identity()), 4).trace() / 4 /
             draws;
    with_neighbours += covariance_of_neighbours(contributions, cells_across, 4).trace() / 4 / draws;
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

TEST_CASE("errors lie within two widened sigmas as often as normal ones, of few cells and of unequal ones") {
  render::Random random(13);
  for (const double unequal : {1.0, 3.0})
    for (const int count : {12, 40}) {
      const int draws = 20000;
      int within_plain = 0, within_wider = 0;
      for (int i = 0; i < draws; ++i) {
        Pulls contributions(static_cast<size_t>(count), Eigen::Vector4f::Zero());
        double error = 0, squares = 0;
        for (size_t k = 0; k < contributions.size(); ++k) {
          const double contribution = random.normal() * (k % 4 ? 1 : unequal);
          contributions[k][0] = static_cast<float>(contribution), squares += contribution * contribution;
          error += random.normal() * (k % 4 ? 1 : unequal);
        }
        within_plain += error * error < 4 * squares;
        within_wider += error * error < 4 * squares * student_growth(freedom_of_cells(contributions))[0];
      }
      const auto share = [&](int n) { return static_cast<double>(n) / draws; };
      CAPTURE(count);
      CAPTURE(unequal);
      MESSAGE(share(within_plain) << ", widened " << share(within_wider));
      CHECK(share(within_plain) < 0.952);
      CHECK(share(within_wider) > share(within_plain) + 0.4 * (0.9545 - share(within_plain)));
      CHECK(share(within_wider) < 0.965);
    }
  CHECK(freedom_of_cells(Pulls(5, Eigen::Vector4f::Zero()))[2] == 1);
}

TEST_CASE("the best mean of two estimates errs as it tells, and less than either") {
  render::Random random(12);
  struct Errors {
    double common, one, other;  // variances
  };
  for (const Errors& e : {Errors{1, 0.5, 2}, {1, 3, 3}, {0, 1, 4}, {4, 0, 1}, {1, 0, 0}}) {
    CAPTURE(e.one);
    CAPTURE(e.other);
    const double of_one = e.common + e.one, of_other = e.common + e.other;
    const BestMean best(of_one, of_other, e.common);
    CHECK(best.share >= 0);
    CHECK(best.share <= 1);
    CHECK(best.variance <= std::min(of_one, of_other) + 1e-12);
    double squares = 0;
    const int draws = 20000;
    for (int i = 0; i < draws; ++i) {
      const double shared = std::sqrt(e.common) * random.normal(),
                   one = shared + std::sqrt(e.one) * random.normal(),
                   other = shared + std::sqrt(e.other) * random.normal(),
                   mean = one + best.share * (other - one);
      squares += mean * mean / draws;
    }
    CHECK(squares == doctest::Approx(best.variance).epsilon(0.05));
  }
  CHECK(BestMean(1, 4, 3).share == 0);  // no more than the smaller is common
}
