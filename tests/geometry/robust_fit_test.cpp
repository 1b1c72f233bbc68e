#include "geometry/robust_fit.hpp"

#include <doctest/doctest.h>

#include "heron/render/random.hpp"

using namespace heron;

namespace {

/// Points of y = 2 + 0.5 x with noise, of which some lie anywhere.
std::vector<FitRow<2>> line_rows(render::Random& random, int count, double sigma, double outliers) {
  std::vector<FitRow<2>> rows;
  for (int i = 0; i < count; ++i) {
    const double x = random.uniform(-10, 10);
    const bool out = random.uniform() < outliers;
    rows.push_back({{1, x}, out ? random.uniform(5, 40) : 2 + 0.5 * x + sigma * random.normal(), sigma});
  }
  return rows;
}

}  // namespace

TEST_CASE("without outliers a robust fit is nearly least squares, and its covariance is honest") {
  render::Random random(3);
  double squares = 0;
  int within = 0;
  constexpr int runs = 400;
  for (int i = 0; i < runs; ++i) {
    const auto fit = fit_robustly<2>(line_rows(random, 60, 0.3, 0), {0, 0}, {});
    REQUIRE(fit.determined);
    const double off = fit.unknowns[0] - 2;
    squares += off * off, within += std::abs(off) < 2 * std::sqrt(fit.covariance(0, 0));
  }
  const double least_squares = 0.3 / std::sqrt(60.0);
  CHECK(std::sqrt(squares / runs) < 1.15 * least_squares);
  CHECK(within > 0.9 * runs);
  CHECK(within < 0.99 * runs);
}

TEST_CASE("a third of outliers on one side hardly moves a robust fit") {
  render::Random random(4);
  for (int i = 0; i < 50; ++i) {
    const auto fit = fit_robustly<2>(line_rows(random, 90, 0.2, 0.33), {0, 0}, {.rounds = 20});
    REQUIRE(fit.determined);
    CHECK(std::abs(fit.unknowns[0] - 2) < 0.25);
    CHECK(std::abs(fit.unknowns[1] - 0.5) < 0.05);
  }
}

TEST_CASE("sigmas weigh, and relative ones take their size from the scatter") {
  // Two groups of constants: the sure one decides.
  std::vector<FitRow<1>> rows;
  for (int i = 0; i < 10; ++i) {
    Eigen::Matrix<double, 1, 1> one;
    one << 1;
    rows.push_back({one, i % 2 ? 1.1 : 1.0, i % 2 ? 10.0 : 0.01});
  }
  Eigen::Matrix<double, 1, 1> start;
  start << 1;
  CHECK(fit_robustly<1>(rows, start, {.least = 1}).unknowns[0] == doctest::Approx(1.0).epsilon(0.001));
  render::Random random(6);
  auto scattered = line_rows(random, 400, 0.5, 0);
  for (auto& row : scattered) row.sigma = 1;  // not known
  const auto relative = fit_robustly<2>(scattered, {0, 0}, {.sigmas_known = false}),
             trusted = fit_robustly<2>(scattered, {0, 0}, {});
  CHECK(std::sqrt(relative.covariance(0, 0)) == doctest::Approx(0.5 / 20).epsilon(0.15));
  CHECK(std::sqrt(trusted.covariance(0, 0)) == doctest::Approx(1.0 / 20).epsilon(0.15));
  CHECK(relative.scatter == doctest::Approx(0.5).epsilon(0.15));
}

TEST_CASE("what does not fix every unknown is not determined, and nothing is no number") {
  const std::vector<FitRow<2>> same{{{1, 3}, 1}, {{1, 3}, 2}, {{1, 3}, 3}};
  CHECK_FALSE(fit_robustly<2>(same, {0, 0}, {}).determined);
  CHECK_FALSE(fit_robustly<2>({}, {0, 0}, {}).determined);
  const std::vector<FitRow<2>> exact{{{1, 0}, 1}, {{1, 1}, 2}, {{1, 2}, 3}};
  const auto fit = fit_robustly<2>(exact, {0, 0}, {.least = 0.1});
  REQUIRE(fit.determined);
  CHECK(fit.unknowns[0] == doctest::Approx(1));
  CHECK(fit.unknowns[1] == doctest::Approx(1));
  CHECK(fit.covariance.allFinite());
  // Units of the unknowns do not matter.
  std::vector<FitRow<2>> scaled = exact;
  for (auto& row : scaled) row.terms[1] *= 1e9;
  CHECK(fit_robustly<2>(scaled, {0, 0}, {.least = 0.1}).unknowns[1] == doctest::Approx(1e-9));
  std::vector<double> none, some{-3, 1, -2};
  CHECK(median_size(none) == 0);
  CHECK(median_size(some) == 2);
}
