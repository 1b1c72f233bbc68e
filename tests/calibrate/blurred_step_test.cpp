#include "feature/blurred_step.hpp"

#include <doctest/doctest.h>

#include <cmath>
#include <numbers>

using heron::blurred_step;

TEST_CASE("a tabled step is the normal distribution to eight digits, and its density the derivative") {
  double value_off = 0, density_off = 0;
  for (int i = -70000; i <= 70000; ++i) {
    const double u = i * 1e-4;
    const auto step = blurred_step(u);
    value_off = std::max(value_off, std::abs(step.value - 0.5 * std::erfc(-u / std::numbers::sqrt2)));
    density_off = std::max(density_off,
                           std::abs(step.density - std::exp(-0.5 * u * u) / std::sqrt(2 * std::numbers::pi)));
  }
  MESSAGE("value off by " << value_off << ", density by " << density_off);
  CHECK(value_off < 1e-8);
  CHECK(density_off < 1e-8);
}

TEST_CASE("far away a step is over, and no number gives no crash") {
  CHECK(blurred_step(-50).value == 0);
  CHECK(blurred_step(50).value == 1);
  CHECK(blurred_step(50).density == 0);
  CHECK(blurred_step(-1e300).value == 0);
  CHECK(blurred_step(1e300).value == 1);
  CHECK(blurred_step(std::nan("")).value == 0);
  double before = 0;
  for (double u = -7; u <= 7; u += 0.003) {
    CHECK(blurred_step(u).value >= before - 1e-12);
    before = blurred_step(u).value;
  }
}
