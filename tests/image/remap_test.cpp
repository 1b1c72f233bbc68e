#include <doctest/doctest.h>

#include <algorithm>
#include <cmath>
#include <limits>
#include <vector>

#include "heron/base/error.hpp"
#include "heron/image/noise.hpp"
#include "heron/image/remap.hpp"
#include "heron/render/random.hpp"
#include "image/plain_kernels.hpp"

using namespace heron;

namespace {

Image<uint8_t> noise_picture(int width, int height, uint64_t seed) {
  render::Random random(seed);
  Image<uint8_t> p(width, height);
  for (int y = 0; y < height; ++y)
    for (int x = 0; x < width; ++x) p(x, y) = static_cast<uint8_t>(random.whole(0, 255));
  return p;
}

bool same_pixels(const Image<uint8_t>& a, const Image<uint8_t>& b) {
  for (int y = 0; y < a.height(); ++y)
    for (int x = 0; x < a.width(); ++x)
      if (a(x, y) != b(x, y)) return false;
  return a.width() == b.width() && a.height() == b.height();
}

}  // namespace

TEST_CASE("remapping by vectors and pixel by pixel gives the same bytes, also at the picture's last pixels") {
  render::Random random(1);
  for (const auto& [w, h] : {std::pair{64, 48}, {65, 49}, {2, 2}, {3, 7}, {130, 5}, {257, 31}}) {
    CAPTURE(w);
    const Image<uint8_t> picture = noise_picture(w, h, 3);
    const double turn = random.uniform(-0.3, 0.3), zoom = random.uniform(0.6, 1.4),
                 dx = random.uniform(-3, 3);
    const Remap remap(
        w, h, 97, 61,
        [&](double x, double y) {
          return Point2{zoom * (x * std::cos(turn) - y * std::sin(turn)) * w / 97 + dx,
                        zoom * (x * std::sin(turn) + y * std::cos(turn)) * h / 61};
        },
        7);
    CHECK(same_pixels(remap.apply(picture), remap_plain(remap, picture)));
    const Remap all(w, h, w, h, [](double x, double y) { return Point2{x, y}; });
    CHECK(same_pixels(all.apply(picture), picture));  // nothing moved, nothing changed
  }
}

TEST_CASE("remapping follows the table: shifts by half a pixel, outside and unknown places") {
  Image<uint8_t> ramp(40, 30);
  for (int y = 0; y < 30; ++y)
    for (int x = 0; x < 40; ++x) ramp(x, y) = static_cast<uint8_t>(4 * x + 2 * y);
  const Remap half(
      40, 30, 40, 30,
      [](double x, double y) {
        return Point2{x + 0.5, y + 0.25};
      },
      99);
  const Image<uint8_t> moved = half.apply(ramp);
  for (int y = 0; y < 29; ++y)
    for (int x = 0; x < 39; ++x) CHECK(std::abs(moved(x, y) - (4 * x + 2 * y + 2.5)) <= 0.5);
  CHECK(moved(39, 10) == 99);
  CHECK(moved(10, 29) == 99);
  const Remap nowhere(
      40, 30, 20, 20,
      [](double, double) {
        return Point2{std::numeric_limits<double>::quiet_NaN(), 1};
      },
      5);
  CHECK(nowhere.apply(ramp)(7, 7) == 5);
  const Remap far(
      40, 30, 20, 20,
      [](double x, double y) {
        return Point2{1e12 * x - 1e11, -1e300 * y};
      },
      6);
  CHECK(far.apply(ramp)(7, 7) == 6);
  CHECK_THROWS_AS(half.apply(Image<uint8_t>(41, 30)), Error);
  const auto identity = [](double x, double y) { return Point2{x, y}; };
  CHECK_THROWS_AS(Remap(1, 30, 10, 10, identity), Error);
  CHECK_THROWS_AS(Remap(40, 30, 40000, 10, identity), Error);
  CHECK_THROWS_AS(Remap(40, 30, 0, 10, identity), Error);
}

TEST_CASE("a view into a larger picture is remapped as its copy is") {
  const Image<uint8_t> large = noise_picture(200, 100, 9);
  const ImageView<const uint8_t> part(large.row(60) + 120, 80, 40, large.stride());
  const Image<uint8_t> copy{part};
  const Remap remap(80, 40, 90, 45, [](double x, double y) { return Point2{x * 0.9 + 0.3, y * 0.9 - 0.2}; });
  CHECK(same_pixels(remap.apply(part), remap.apply(copy)));
}

TEST_CASE("noise is estimated from the picture itself, beside slopes and edges") {
  render::Random random(2);
  for (const double sigma : {0.5, 2.0, 5.0}) {
    Image<uint8_t> p(400, 300);
    for (int y = 0; y < 300; ++y)
      for (int x = 0; x < 400; ++x)
        p(x, y) = static_cast<uint8_t>(
            std::clamp(std::lround(60 + 0.2 * x + (x > 200 ? 60 : 0) + sigma * random.normal()), 0L, 255L));
    CHECK(noise_sigma(p) == doctest::Approx(std::hypot(sigma, 0.29)).epsilon(0.35));
  }
  CHECK(noise_sigma(Image<uint8_t>(2, 2)) == 0);
  CHECK(noise_sigma(Image<uint8_t>(50, 50)) == 0);
}

TEST_CASE("the kernel that estimates noise is the median of its mask") {
  render::Random random(3);
  for (const auto& [width, height] :
       {std::pair{3, 3}, {4, 3}, {18, 40}, {33, 5}, {34, 7}, {66, 3}, {131, 64}})
    for (const int most : {1, 20, 90, 255}) {  // the last answers with more than a byte holds
      Image<uint8_t> p(width, height);
      for (int y = 0; y < height; ++y)
        for (int x = 0; x < width; ++x) p(x, y) = static_cast<uint8_t>(most * random.whole(0, 1));
      std::vector<int> sizes;
      for (int y = 1; y + 1 < height; ++y)
        for (int x = 1; x + 1 < width; ++x) {
          int sum = 0;
          for (int v = -1; v <= 1; ++v)
            for (int u = -1; u <= 1; ++u) sum += (u == 0 ? -2 : 1) * (v == 0 ? -2 : 1) * p(x + u, y + v);
          sizes.push_back(std::abs(sum));
        }
      std::sort(sizes.begin(), sizes.end());
      const int median = sizes[(sizes.size() - 1) / 2];
      CAPTURE(width);
      CAPTURE(most);
      CHECK(noise_sigma(p) == doctest::Approx(1.4826 / 6 * (median < 255 ? median : median / 16 * 16)));
    }
}
