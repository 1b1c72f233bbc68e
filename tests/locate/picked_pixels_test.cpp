#include "locate/pattern/grey/picked_pixels.hpp"

#include <doctest/doctest.h>

#include "locate/pattern/grey/grey_samples.hpp"

using namespace heron;

namespace {

constexpr int model_side = 64;

/// Edges down a line of a taught picture, of which the mask lets only columns before `masked_from` be known.
GreyModel line_model(double column, int masked_from) {
  Image<uint8_t> pixels(model_side, model_side), mask(model_side, model_side);
  std::vector<TaughtEdge> edges;
  for (int y = 0; y < model_side; ++y)
    for (int x = 0; x < model_side; ++x)
      pixels(x, y) = x < column ? 40 : 160, mask(x, y) = x < masked_from ? 255 : 0;
  for (int y = 8; y < model_side - 8; ++y) edges.push_back({Point2{column, static_cast<double>(y)}, {1, 0}});
  return grey_model(pixels, mask, {0, 0}, edges, 1);
}

GreySamples samples_of(const GreyModel& model, const Similarity2& pose, int width = 400, int height = 400) {
  GreySamples s;
  collect_grey_samples(Image<uint8_t>(width, height), model, std::vector<float>(model_side, 1.0f), pose, s);
  evaluate_grey_samples(model.coefficients, model.origin, pose, s);
  return s;
}

}  // namespace

TEST_CASE("pixels beside edges are picked at any angle and scale, each once and all of them") {
  const GreyModel model = line_model(30.3, model_side);
  for (const double scale : {0.5, 1.0, 2.5, 20.0, 40.0})
    for (const double turn : {0.0, 33.0, 90.0, 200.0}) {
      CAPTURE(scale);
      CAPTURE(turn);
      const Similarity2 pose{201.37, 199.81, degrees(turn), scale};
      const GreySamples s = samples_of(model, pose);
      Image<uint8_t> seen(400, 400);
      for (size_t i = 0; i < s.count; ++i) {
        const int x = static_cast<int>(s.across[i] + s.base.x), y = static_cast<int>(s.down[i] + s.base.y);
        REQUIRE(seen.view().holds(x, y));
        REQUIRE(seen(x, y) == 0);
        seen(x, y) = 1;
      }
      int missed = 0, too_far = 0;
      for (int y = 0; y < 400; ++y)
        for (int x = 0; x < 400; ++x) {
          const Point2 at = rotated(Point2{x - pose.x, y - pose.y}, -pose.angle) / scale;
          const bool within = at.y >= 8 && at.y <= model_side - 9;
          const double far = std::abs(at.x - 30.3);
          missed += within && far < std::min(1.0, 20 / scale) && !seen(x, y);
          const double quarter = 0.25 / scale;
          too_far += seen(x, y) && (far > 1.6 + quarter || at.y < 6.3 - quarter);
        }
      CHECK(too_far == 0);
      // Of the widest spots, which are kept to some fifty pixels, neighbours need not touch.
      if (scale <= 20) CHECK(missed == 0);
    }
}

TEST_CASE("only pixels of the picture are picked, wherever the part lies") {
  const GreyModel model = line_model(30.3, model_side);
  const auto count = [&](const Similarity2& pose) { return samples_of(model, pose, 61, 53).count; };
  const size_t whole = count({-5, 0, {}, 0.8});
  CHECK(whole > 60);
  CHECK(count({-24.5, 0, {}, 0.8}) < whole);  // the line runs along the picture's border
  CHECK(count({-5, 30, {}, 0.8}) < whole);
  CHECK(count({-5, -40, {}, 0.8}) < whole);
  CHECK(count({-500, 20, 30_deg, 0.8}) == 0);
  CHECK(count({20, 4000, 30_deg, 3}) == 0);
}

TEST_CASE("beside a mask pixels are compared only where the taught surface is known") {
  // The spline looks three pixels around.
  const GreyModel clear = line_model(30.3, model_side), beside = line_model(30.3, 34),
                  under = line_model(30.3, 32);
  const Similarity2 pose{201.37, 199.81, 25_deg, 1};
  const GreySamples all = samples_of(clear, pose), some = samples_of(beside, pose);
  CHECK(some.count > all.count / 2);
  CHECK(some.count < all.count);
  for (size_t i = 0; i < some.count; ++i) REQUIRE(some.x[i] < 30.8f);
  const GreySamples few = samples_of(under, pose);
  for (size_t i = 0; i < few.count; ++i) REQUIRE(few.x[i] < 28.8f + 0.9f);
}
