#include "locate/pattern/grey/grey_blur.hpp"

#include <doctest/doctest.h>

#include "heron/render/random.hpp"
#include "locate/pattern/grey/grey_samples.hpp"

using namespace heron;

TEST_CASE("a blurred surface keeps its sum, and spreads a point by the variance asked for") {
  Image<float> point(41, 31), blurred;
  point(20, 15) = 100;
  for (const double variance : {0.1, 0.25, 0.6, 1.7, min_blur}) {
    CAPTURE(variance);
    blur(point, variance, blurred);
    double sum = 0, across = 0, down = 0;
    for (int y = 0; y < 31; ++y)
      for (int x = 0; x < 41; ++x) {
        const auto v = static_cast<double>(blurred(x, y));
        sum += v, across += v * (x - 20) * (x - 20), down += v * (y - 15) * (y - 15);
      }
    CHECK(sum == doctest::Approx(100).epsilon(1e-4));
    CHECK(across / sum == doctest::Approx(variance).epsilon(1e-3));
    CHECK(down / sum == doctest::Approx(variance).epsilon(1e-3));
  }
  Image<float> flat(5, 1), same;
  for (int x = 0; x < 5; ++x) flat(x, 0) = 7;
  blur(flat, 1, same);
  for (int x = 0; x < 5; ++x) CHECK(same(x, 0) == doctest::Approx(7));
}

TEST_CASE("noise keeps that share of its mean square slope behind a blur that is told") {
  // Of white noise through the exact derivative of what its samples stand for, by a long row of them.
  constexpr int width = 256, height = 64, reach = 40;
  Image<float> noise(width, height), blurred;
  render::Random random(5);
  for (int y = 0; y < height; ++y)
    for (int x = 0; x < width; ++x) noise(x, y) = static_cast<float>(random.normal());
  const auto mean_square_slope = [&](const Image<float>& picture) {
    double squares = 0;
    for (int y = 8; y < height - 8; ++y)
      for (int x = reach + 8; x < width - reach - 8; ++x) {
        double slope = 0;  // the derivative of sin(pi t) / (pi t) at whole numbers
        for (int k = 1; k <= reach; ++k)
          slope += (k % 2 ? 1.0 : -1.0) / k * static_cast<double>(picture(x + k, y) - picture(x - k, y));
        squares += slope * slope;
      }
    return squares;
  };
  const double before = mean_square_slope(noise);
  for (const double variance : {0.2, 0.5, 1.2, -0.2}) {
    blur(noise, variance, blurred);
    CHECK(mean_square_slope(blurred) / before == doctest::Approx(slope_noise_left(variance)).epsilon(0.04));
  }
}

TEST_CASE("what noise is left of itself behind two blurs, between pixels, is told") {
  // Values of the spline are told by its coefficients: white noise filtered for them along rows and columns.
  constexpr int side = 96;
  Image<uint8_t> pixels(side, side), mask(side, side);
  render::Random random(6);
  for (int y = 0; y < side; ++y)
    for (int x = 0; x < side; ++x)
      pixels(x, y) = static_cast<uint8_t>(std::lround(128 + 20 * random.normal())), mask(x, y) = 255;
  std::vector<TaughtEdge> edges;
  for (int y = 10; y < side - 10; ++y)
    for (int x = 10; x < side - 10; ++x)
      edges.push_back({Point2{static_cast<double>(x), static_cast<double>(y)}, {1, 0}});
  const GreyModel model = grey_model(pixels, mask, {0, 0}, edges, 20);
  GreySamples a, b;
  const Similarity2 pose{0.37, -0.21, degrees(31), 1};
  const Image<uint8_t> picture(2 * side, 2 * side);
  collect_grey_samples(picture, model, std::vector<float>(edges.size(), 1.0f), pose, a);
  b = a;
  Image<float> blurred;
  blur(model.coefficients, 0.5, blurred);
  evaluate_grey_samples(model.coefficients, model.origin, pose, a);
  evaluate_grey_samples(blurred, model.origin, pose, b);
  double same = 0, product = 0;
  for (size_t i = 0; i < a.count; ++i) {
    const double u = static_cast<double>(a.value[i]) - 128, v = static_cast<double>(b.value[i]) - 128;
    same += u * u, product += u * v;
  }
  REQUIRE(a.count > 1000);
  const double each = 400.0 * static_cast<double>(a.count);
  CHECK(same / each == doctest::Approx(noise_behind(0, 0)).epsilon(0.08));
  CHECK(product / each == doctest::Approx(noise_behind(0, 0.5)).epsilon(0.08));
}
