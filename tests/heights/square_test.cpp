#include "heron/heights/square.hpp"

#include <doctest/doctest.h>

#include <cmath>

#include "heron/base/error.hpp"
#include "heron/image/picture.hpp"

using namespace heron;

TEST_CASE("a plane stays the plane it is on square pixels, whichever side is the coarser") {
  for (const Point2 pitch : {Point2{0.2, 0.25}, Point2{0.7, 0.3}, Point2{0.1, 0.1}}) {
    Image<float> map(61, 43);
    for (int y = 0; y < map.height(); ++y)
      for (int x = 0; x < map.width(); ++x)
        map(x, y) = static_cast<float>(3 + 0.5 * x * pitch.x - 0.25 * y * pitch.y);
    const SquarePixels<float> square = on_square_pixels(map, pitch);
    CHECK(square.pitch_mm == std::min(pitch.x, pitch.y));
    CHECK(square.pixels.width() == static_cast<int>(60 * pitch.x / square.pitch_mm + 1e-6) + 1);
    CHECK(square.pixels.height() == static_cast<int>(42 * pitch.y / square.pitch_mm + 1e-6) + 1);
    double worst = 0;
    for (int y = 0; y < square.pixels.height(); ++y)
      for (int x = 0; x < square.pixels.width(); ++x)
        worst = std::max(worst, std::abs(square.pixels(x, y) - (3 + square.pitch_mm * (0.5 * x - 0.25 * y))));
    CHECK(worst < 1e-5);
  }
}

TEST_CASE("holes stay as large as they are, and a grey picture goes the same way") {
  Image<float> map(8, 40);
  for (int y = 0; y < 40; ++y) std::fill_n(map.row(y), 8, y >= 10 && y < 20 ? NAN : 5.0f);
  const Image<float> square = on_square_pixels(map, {1, 2.5}).pixels;
  int holes = 0;
  for (int y = 0; y < square.height(); ++y) {
    holes += std::isnan(square(4, y));
    if (!std::isnan(square(4, y))) CHECK(square(4, y) == 5);
  }
  CHECK(holes == 25);
  Image<uint8_t> grey(3, 2);
  for (int x = 0; x < 3; ++x) grey(x, 0) = 10, grey(x, 1) = 250;
  const Image<uint8_t> more = on_square_pixels(grey, {1, 4}).pixels;
  REQUIRE(more.height() == 5);
  for (int y = 0; y < 5; ++y) CHECK(more(1, y) == 10 + 60 * y);
}

TEST_CASE("pitches that are none, maps of a pixel and of too many, and pictures that tell of oblong pixels") {
  const Image<float> map(5, 4), one(1, 1);
  for (const Point2 pitch : {Point2{0, 1}, Point2{1, -1}, Point2{NAN, 1}, Point2{1, INFINITY}})
    CHECK_THROWS_WITH_AS(on_square_pixels(map, pitch), doctest::Contains("above 0"), Error);
  CHECK_THROWS_WITH_AS(on_square_pixels(map, {1e-5, 1}), doctest::Contains("32767"), Error);
  CHECK(on_square_pixels(one, {1, 2}).pixels.width() == 1);
  CHECK(on_square_pixels(Image<float>(), {1, 2}).pixels.width() == 0);
  Picture picture;
  picture.pixels = map;
  CHECK_NOTHROW(require_square_pixels(picture));
  picture.pitch_mm = Point2{0.2, 0.2004};
  CHECK_NOTHROW(require_square_pixels(picture));
  picture.pitch_mm = Point2{0.2, 0.25}, picture.name = "m.tif";
  CHECK_THROWS_WITH_AS(require_square_pixels(picture),
                       doctest::Contains("m.tif: its pixels measure 0.2 x 0.25"), Error);
  picture.pixels = Image<uint8_t>(5, 4);
  CHECK_NOTHROW(require_square_pixels(picture));
}
