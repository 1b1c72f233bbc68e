#include "heron/heights/height_at.hpp"

#include <doctest/doctest.h>

#include <cmath>

#include "heron/base/error.hpp"
#include "heron/render/random.hpp"

using namespace heron;

namespace {

template <class Height>
Image<float> map_with(Height height) {
  Image<float> map(60, 50);
  for (int y = 0; y < 50; ++y)
    for (int x = 0; x < 60; ++x) map(x, y) = static_cast<float>(height(x, y));
  return map;
}

}  // namespace

TEST_CASE("the height and tilt of a plane, exactly") {
  const auto at =
      height_at(map_with([](int x, int y) { return 3 + 0.1 * x - 0.05 * y; }), {20.5, 30.25}, 7, 0.5);
  REQUIRE(at);
  CHECK(at->height_mm == doctest::Approx(3 + 2.05 - 1.5125).epsilon(1e-6));
  CHECK(at->tilt.degrees() ==
        doctest::Approx(radians(std::atan(std::hypot(0.2, 0.1))).degrees()).epsilon(1e-5));
  CHECK(at->share == 1);
  CHECK(at->sigma_mm < 1e-5);
}

TEST_CASE("what lies over an edge, in holes or outside does not count, and the share says so") {
  const Image<float> map = map_with([](int x, int) { return x < 33 ? 12.0 : 0.0; });
  const auto at = height_at(map, {30, 25}, 8, 1);
  REQUIRE(at);
  CHECK(at->height_mm == doctest::Approx(12));
  CHECK(at->tilt.degrees() < 0.01);
  CHECK(at->share > 0.6);
  CHECK(at->share < 0.75);
  const auto corner = height_at(map, {0, 0}, 8, 1);
  REQUIRE(corner);
  CHECK(corner->share < 0.35);
  const auto holes = map_with([](int x, int y) { return (x + y) % 2 == 0 ? 5.0 : static_cast<double>(NAN); });
  CHECK(height_at(holes, {30, 25}, 8, 1)->share == doctest::Approx(0.5).epsilon(0.05));
  CHECK_FALSE(height_at(map_with([](int, int) { return NAN; }), {30, 25}, 8, 1));
  CHECK_FALSE(height_at(map, {500, -400}, 8, 1));
  CHECK_FALSE(height_at(map, {1e300, 0}, 8, 1));
  CHECK_FALSE(height_at(map_with([](int, int y) { return y == 25 ? 5.0 : static_cast<double>(NAN); }),
                        {30, 25}, 8,
                        1));  // a line fixes no plane
}

TEST_CASE("the sigmas hold") {
  render::Random random(3);
  int height_inside = 0, runs = 1000;
  double tilt_size = 0, tilt_sigma = 0;
  for (int run = 0; run < runs; ++run) {
    const Image<float> map = map_with([&](int x, int) { return 5 + 0.02 * x + 0.03 * random.normal(); });
    const auto at = height_at(map, {30, 25}, 6, 1);
    REQUIRE(at);
    height_inside += std::abs(at->height_mm - 5.6) < 2 * at->sigma_mm;
    tilt_size += std::pow(at->tilt.radians() - std::atan(0.02), 2);
    tilt_sigma += std::pow(at->sigma_tilt.radians(), 2);
  }
  CHECK(height_inside > 0.93 * runs);
  CHECK(height_inside < 0.975 * runs);
  CHECK(std::sqrt(tilt_size / tilt_sigma) == doctest::Approx(1).epsilon(0.1));
}

TEST_CASE("a radius, a pitch or a place that is none is refused") {
  const Image<float> map = map_with([](int, int) { return 1.0; });
  CHECK_THROWS_WITH_AS(height_at(map, {3, 3}, 0, 1), doctest::Contains("above 0"), Error);
  CHECK_THROWS_AS(height_at(map, {3, 3}, 1e9, 1), Error);
  CHECK_THROWS_AS(height_at(map, {3, 3}, 2, NAN), Error);
  CHECK_THROWS_AS(height_at(map, {NAN, 3}, 2, 1), Error);
}
