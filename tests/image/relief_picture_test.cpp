#include <doctest/doctest.h>

#include <cmath>

#include "heron/image/gradient.hpp"
#include "heron/image/pyramid.hpp"
#include "heron/image/relief.hpp"
#include "image/plain_kernels.hpp"

using namespace heron;

namespace {

constexpr int wide = 160, high = 120;

template <class Height>
Image<float> map_of(Height height) {
  Image<float> map(wide, high);
  for (int y = 0; y < high; ++y)
    for (int x = 0; x < wide; ++x) map(x, y) = static_cast<float>(height(x, y));
  return map;
}

double plate(int x, int y) { return x > 60 && x < 100 && y > 40 && y < 80 ? 2.0 : 0.0; }

}  // namespace

TEST_CASE("a plane is flat, however it leans and however high it lies") {
  const Relief relief = relief_of(map_of([](int x, int y) { return 700 + 0.03 * x - 0.05 * y; }), 0.02);
  // Away from the border, where half of the surroundings are missing.
  for (int y = 50; y < high - 50; ++y)
    for (int x = 50; x < wide - 50; ++x) REQUIRE(std::abs(relief.pixels(x, y) - 128) <= 1);
}

TEST_CASE("a step looks the same on the table and on a stack, and as many levels high as it is steps") {
  const Relief low = relief_of(map_of(plate), 0.02),
               stacked = relief_of(map_of([](int x, int y) { return plate(x, y) + 300; }), 0.02);
  int different = 0;
  for (int y = 0; y < high; ++y)
    for (int x = 0; x < wide; ++x) different += std::abs(low.pixels(x, y) - stacked.pixels(x, y)) > 1;
  CHECK(different == 0);
  // 2 mm in steps of 0.02, less what the mean over Gaussian surroundings rises by from pixel to pixel there.
  const double risen = 100 / (12 * std::sqrt(2 * 3.14159265358979));
  CHECK(std::abs(low.pixels(61, 60) - low.pixels(60, 60) - (100 - risen)) < 2);
  CHECK(low.pixels(10, 10) == 128);
  // What is higher than the levels hold stays at their end.
  CHECK(relief_of(map_of([](int x, int y) { return 100 * plate(x, y); }), 0.02).pixels(62, 60) == 255);
}

TEST_CASE("holes are bridged, are not valid, and make no step of their own") {
  Image<float> map = map_of(plate);
  const Relief whole = relief_of(map, 0.02);
  for (int y = 0; y < high; y += 3)
    for (int x = 20; x < 26; ++x) map(x, y) = NAN, map(x + 60, y) = INFINITY;
  const Relief holed = relief_of(map, 0.02);
  CHECK(holed.valid(22, 3) == 0);
  CHECK(holed.valid(82, 3) == 0);
  CHECK(holed.valid(22, 4) == 255);
  for (int y = 0; y < high; ++y)
    for (int x = 18; x < 28; ++x) REQUIRE(std::abs(holed.pixels(x, y) - whole.pixels(x, y)) <= 6);
}

TEST_CASE("the step follows the relief inside the region") {
  Image<uint8_t> inside(wide, high);
  for (int y = 30; y < 90; ++y) std::fill_n(inside.row(y) + 50, 60, uint8_t{255});
  const double step = relief_step(map_of(plate), inside);
  CHECK(step > 0.005);
  CHECK(step < 0.03);
  CHECK(relief_step(map_of([](int x, int y) { return 10 * plate(x, y); }), inside) ==
        doctest::Approx(10 * step).epsilon(0.001));
}

TEST_CASE("tall pictures, worked on in several pieces, hold what their plain twins hold") {
  for (const auto& [w, h] : {std::pair{33, 700}, {200, 517}, {5, 300}}) {
    Image<uint8_t> picture(w, h);
    uint32_t seed = 5;
    for (int y = 0; y < h; ++y)
      for (int x = 0; x < w; ++x)
        picture(x, y) = static_cast<uint8_t>((seed = seed * 1664525u + 1013904223u) >> 24);
    const Gradients fast = gradients(picture), plain = gradients_plain(picture);
    const Image<uint8_t> half = halve(picture), half_plain = halve_plain(picture);
    int different = 0;
    for (int y = 0; y < h; ++y)
      for (int x = 0; x < w; ++x)
        different += fast.size(x, y) != plain.size(x, y) || fast.direction(x, y) != plain.direction(x, y);
    for (int y = 0; y < half.height(); ++y)
      for (int x = 0; x < half.width(); ++x) different += half(x, y) != half_plain(x, y);
    CHECK(different == 0);
  }
}
