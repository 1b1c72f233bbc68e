#include <doctest/doctest.h>

#include <cmath>
#include <tuple>

#include "heron/render/random.hpp"
#include "locate/marker/rim_sums.hpp"

using namespace heron;

namespace {

/// A round edge under a lamp that stands aside, and noise; in places as bright as pixels can be.
Image<uint8_t> rim_picture() {
  render::Random random(7);
  Image<uint8_t> picture(90, 70);
  for (int y = 0; y < picture.height(); ++y)
    for (int x = 0; x < picture.width(); ++x) {
      const double inside = distance({static_cast<double>(x), static_cast<double>(y)}, {44.3, 33.8}) < 22;
      const double grey = (inside ? 60 : 200) + 1.2 * (x - 45) + 3 * random.normal();
      picture(x, y) = static_cast<uint8_t>(std::clamp(std::lround(grey), 0L, 255L));
    }
  return picture;
}

RimFit rim_of(Point2 centre, double radius, double a, double b, double blur) {
  RimFit rim;
  rim.centre = centre, rim.radius = radius, rim.a = a, rim.b = b, rim.blur = blur;
  return rim;
}

}  // namespace

TEST_CASE("the kernel of a rim's sums adds up what its plain twin does, also of ovals and at the border") {
  const Image<uint8_t> picture = rim_picture();
  for (const auto& [rim, sectors] : {std::tuple{rim_of({44.3, 33.8}, 22, 0, 0, 0.9), size_t{15}},
                                     std::tuple{rim_of({44.6, 33.1}, 21, 2.4, -1.7, 1.4), size_t{15}},
                                     std::tuple{rim_of({8.2, 60.9}, 17.5, -1, 3, 0.6), size_t{12}},
                                     std::tuple{rim_of({30, 30}, 5, 0.4, 0.2, 2.1), size_t{8}}}) {
    const RimPixels pixels = pixels_near(picture, rim, sectors);
    REQUIRE(pixels.first.size() == sectors + 1);
    for (const bool known : {false, true}) {
      const std::vector<RimLight> lights =
          known ? std::vector<RimLight>(sectors, {60, 254.5}) : std::vector<RimLight>{};
      std::vector<RimSums> fast, plain;
      rim_sums(pixels, rim, lights, fast), rim_sums_plain(pixels, rim, lights, plain);
      REQUIRE(fast.size() == sectors);
      REQUIRE(plain.size() == sectors);
      double count = 0;
      for (size_t i = 0; i < sectors; ++i) {
        const RimSums &f = fast[i], &p = plain[i];
        // A pixel at the very edge of the band may fall to either side of it.
        CHECK(std::abs(f.count - p.count) <= 1);
        if (f.count != p.count) continue;
        count += p.count;
        const auto near = [](float one, float other, double size) {
          return std::abs(one - other) <= 2e-5 * size + 1e-5;
        };
        const double size = p.count;
        for (size_t k = 0; k < 21; ++k) CHECK(near(f.slopes[k], p.slopes[k], size));
        for (size_t k = 0; k < 6; ++k) {
          CHECK(near(f.inside[k], p.inside[k], size));
          CHECK(near(f.outside[k], p.outside[k], size));
          CHECK(near(f.grey[k], p.grey[k], 150 * size));
        }
        for (size_t k = 0; k < 3; ++k) CHECK(near(f.light[k], p.light[k], size));
        for (size_t k = 0; k < 2; ++k) CHECK(near(f.light_grey[k], p.light_grey[k], 150 * size));
        CHECK(near(f.grey_square, p.grey_square, 150 * 150 * size));
        for (size_t k = 0; k < f.rings.size(); ++k) {
          CHECK(std::abs(f.rings[k].count - p.rings[k].count) <= 1);
          if (f.rings[k].count != p.rings[k].count) continue;
          CHECK(near(f.rings[k].grey, p.rings[k].grey, 150 * size));
          CHECK(near(f.rings[k].phi, p.rings[k].phi, size));
        }
      }
      CHECK(count > 20);
    }
  }
}

TEST_CASE("pixels gathered for a rim serve it while it moves within their slack, and hold its whole band") {
  const Image<uint8_t> picture = rim_picture();
  const RimFit rim = rim_of({44.3, 33.8}, 20, 1, 0.5, 0.9);
  const RimPixels pixels = pixels_near(picture, rim, 14);
  CHECK(pixels.serve(rim));
  RimFit moved = rim;
  moved.centre += Point2{0.8, 0.3}, moved.radius += 0.4;
  CHECK(pixels.serve(moved));
  const RimPixels own = pixels_near(picture, moved, 14);
  std::vector<RimSums> with_old, with_own;
  rim_sums_plain(pixels, moved, {}, with_old), rim_sums_plain(own, moved, {}, with_own);
  double old_count = 0, own_count = 0;
  for (size_t i = 0; i < 14; ++i) old_count += with_old[i].count, own_count += with_own[i].count;
  CHECK(old_count == own_count);
  moved.blur = 2;  // a wider band than is held
  CHECK_FALSE(pixels.serve(moved));
  // An ellipse that is none, or lies outside, holds nothing.
  for (const RimFit& none : {rim_of({44, 33}, 10, 10, 3, 1), rim_of({4000, -900}, 10, 0, 0, 1),
                             rim_of({1e300, 0}, 1e300, 0, 0, 1)})
    CHECK(pixels_near(picture, none, 8).x.empty());
}
