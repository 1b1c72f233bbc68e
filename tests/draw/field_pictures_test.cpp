#include <doctest/doctest.h>

#include <cmath>
#include <limits>
#include <set>

#include "heron/base/error.hpp"
#include "heron/draw/overlay.hpp"

using namespace heron;

namespace {

int bright_of(Rgb c) { return 30 * c.r + 59 * c.g + 11 * c.b; }

}  // namespace

TEST_CASE("heights are drawn by color, holes apart from all of them, with the range that was asked for") {
  Image<float> map(100, 80);
  for (int y = 0; y < 80; ++y)
    for (int x = 0; x < 100; ++x) map(x, y) = static_cast<float>(0.1 * x);
  map(50, 40) = std::numeric_limits<float>::quiet_NaN();
  const Image<Rgb> drawn = draw_heights(map, std::nullopt, {0.5, 0.5});
  const int zoom = drawn.width() / 100;
  CHECK(zoom >= 4);
  const auto at = [&](const Image<Rgb>& p, int x, int y) {
    return p(x * zoom + zoom / 2, y * zoom + zoom / 2);
  };
  CHECK(bright_of(at(drawn, 5, 40)) < bright_of(at(drawn, 40, 40)));
  CHECK(bright_of(at(drawn, 40, 40)) < bright_of(at(drawn, 78, 40)));
  // The hole is striped over the ground.
  std::set<int> tones;
  for (int y = 0; y < zoom; ++y)
    for (int x = 0; x < zoom; ++x) tones.insert(bright_of(drawn(50 * zoom + x, 40 * zoom + y)));
  CHECK(tones.size() >= 2);
  const Image<Rgb> narrow = draw_heights(map, Range<double>{0, 1});
  CHECK(at(narrow, 30, 40) == at(narrow, 70, 40));  // both above the range
  CHECK_THROWS_AS(draw_heights(map, Range<double>{2, 1}), Error);
  // The picture that belongs to the map shades it, and must be as large.
  Image<uint8_t> dark(map.width(), map.height());
  const ImageView<const uint8_t> shade = dark;
  const Image<Rgb> shaded = draw_heights(map, Range<double>{0, 1}, {}, &shade);
  int darker = 0;
  for (int y = 0; y < shaded.height(); ++y)
    for (int x = 0; x < shaded.width(); ++x) darker += shaded(x, y).g < narrow(x, y).g;
  CHECK(darker > shaded.width() * shaded.height() / 4);
  const Image<uint8_t> other(3, 3);
  const ImageView<const uint8_t> small = other;
  CHECK_THROWS_AS(draw_heights(map, std::nullopt, {}, &small), Error);
  Image<float> nothing(20, 10);
  for (int y = 0; y < 10; ++y) std::fill_n(nothing.row(y), 20, std::numeric_limits<float>::quiet_NaN());
  CHECK(draw_heights(nothing).width() > 0);
  CHECK(draw_heights(Image<float>(20, 10)).width() > 0);
}

TEST_CASE("a light report stripes what is clipped and what is black, in two ways, and rings the glare") {
  Image<uint8_t> picture(400, 300);
  for (int y = 0; y < 300; ++y) std::fill_n(picture.row(y), 400, uint8_t{120});
  for (int y = 240; y < 280; ++y)
    for (int x = 10; x < 60; ++x) picture(x, y) = 255, picture(x + 80, y) = 0;
  LightReport report;
  report.measures = {{"brightness", 120, "grey levels", Fitness::good, "fine"},
                     {"saturation", 2, "%", Fitness::poor, "too much"}};
  report.glares = {{{300, 60}, 20}};
  const Image<Rgb> drawn = draw_light(picture, report);
  int red = 0, blue = 0, ring = 0;
  for (int y = 240; y < 280; ++y)
    for (int x = 0; x < 200; ++x)
      red += drawn(x, y).r > drawn(x, y).b + 60, blue += drawn(x, y).b > drawn(x, y).r + 60;
  for (int y = 20; y < 100; ++y)
    for (int x = 260; x < 345; ++x) ring += drawn(x, y) != Rgb{120, 120, 120};
  CHECK(red == doctest::Approx(1000).epsilon(0.1));
  CHECK(blue == doctest::Approx(1000).epsilon(0.1));
  CHECK(ring > 100);
  // Outside the region nothing is striped.
  const Image<Rgb> part = draw_light(picture, report, Region::rectangle(Box{200, 0, 200, 300}));
  CHECK(part(30, 260) == Rgb{255, 255, 255});
}
