#include <doctest/doctest.h>

#include "heron/image/color_space.hpp"
#include "heron/image/components.hpp"
#include "heron/render/random.hpp"
#include "image/plain_kernels.hpp"

using namespace heron;

namespace {

void check_color(Rgb p, ColorSpace space, std::array<double, 3> expected, double within) {
  const auto c = in_space(p, space);
  for (size_t i = 0; i < 3; ++i) CHECK(c[i] == doctest::Approx(expected[i]).epsilon(0.0005).scale(within));
}

Image<uint8_t> drawn(const std::vector<const char*>& rows) {
  Image<uint8_t> mask(static_cast<int>(std::string(rows[0]).size()), static_cast<int>(rows.size()));
  for (int y = 0; y < mask.height(); ++y)
    for (int x = 0; x < mask.width(); ++x) mask(x, y) = rows[static_cast<size_t>(y)][x] == '#' ? 255 : 0;
  return mask;
}

}  // namespace

TEST_CASE("colors in each space, as their standards define them") {
  check_color({255, 0, 0}, ColorSpace::hsv, {0, 100, 100}, 1);
  check_color({0, 128, 128}, ColorSpace::hsv, {180, 100, 50.196}, 100);
  check_color({255, 128, 0}, ColorSpace::hsl, {30.118, 100, 50}, 100);
  check_color({90, 90, 90}, ColorSpace::hsv, {0, 0, 35.294}, 100);
  check_color({255, 0, 0}, ColorSpace::ycbcr, {76.245, 84.972, 255.5}, 255);
  // sRGB primaries in CIE Lab under D65, as published with the sRGB profile.
  check_color({255, 0, 0}, ColorSpace::lab, {53.241, 80.092, 67.203}, 100);
  check_color({0, 0, 255}, ColorSpace::lab, {32.297, 79.188, -107.860}, 100);
  check_color({255, 255, 255}, ColorSpace::lab, {100, 0, 0}, 100);
}

TEST_CASE("a mask holds what lies in the range, in every space, with gains, and as its plain twin says") {
  render::Random random(11);
  Image<Rgb> picture(203, 71);
  for (int y = 0; y < picture.height(); ++y)
    for (int x = 0; x < picture.width(); ++x)
      picture(x, y) = {static_cast<uint8_t>(random.whole(0, 255)), static_cast<uint8_t>(random.whole(0, 255)),
                       static_cast<uint8_t>(random.whole(0, 255))};
  const std::vector<ColorRange> ranges{{ColorSpace::rgb, {Range{20.5, 180.5}, {60.5, 255}, {0, 140.5}}},
                                       {ColorSpace::hsv, {Range{150.0, 200.0}, {20, 100}, {10, 90}}},
                                       {ColorSpace::hsv, {Range{330.0, 25.0}, {20, 100}, {10, 90}}},
                                       {ColorSpace::hsv, {Range{40.0, 310.0}, {15, 80}, {30, 100}}},
                                       {ColorSpace::hsl, {Range{80.0, 170.0}, {25, 100}, {20, 75}}},
                                       {ColorSpace::ycbcr, {Range{60.0, 200.0}, {90, 140}, {70, 128}}},
                                       {ColorSpace::lab, {Range{30.0, 80.0}, {-40, 20}, {-60, 10}}},
                                       {ColorSpace::grey, {Range{70.5, 180.5}}}};
  for (const ColorRange& range : ranges) {
    CAPTURE(color_space_words[static_cast<size_t>(range.space)]);
    const std::array<double, 3> gains{1.0, 0.9037, 1.0971};
    const Image<uint8_t> fast = color_mask(picture, range, gains),
                         plain = color_mask_plain(picture, range, gains);
    int different = 0, wrong = 0, in = 0;
    for (int y = 0; y < picture.height(); ++y)
      for (int x = 0; x < picture.width(); ++x) {
        different += fast(x, y) != plain(x, y);
        in += fast(x, y) != 0;
        const Rgb p = picture(x, y);
        // Lab takes an sRGB value as a whole number.
        const auto level = [&](double v, double gain) {
          return range.space == ColorSpace::lab ? std::min(255.0, std::nearbyint(v * gain)) : v * gain;
        };
        const double off = outside_by(
            range, in_space(std::array<double, 3>{level(p.r, 1.0), level(p.g, 0.9037), level(p.b, 1.0971)},
                            range.space));
        if (std::abs(off) > 0.002) wrong += (off < 0) != (fast(x, y) != 0);
      }
    CHECK(different == 0);
    CHECK(wrong == 0);
    CHECK(in > 100);
  }
}

TEST_CASE("a color range that contradicts itself is refused") {
  const Image<Rgb> picture(4, 4);
  CHECK_THROWS_AS(color_mask(picture, {ColorSpace::rgb, {Range{9.0, 3.0}, {0, 1}, {0, 1}}}), Error);
  CHECK_THROWS_AS(color_mask(picture, {ColorSpace::hsv, {Range{-5.0, 30.0}, {0, 1}, {0, 1}}}), Error);
  CHECK_THROWS_AS(color_mask(picture, {ColorSpace::rgb, {Range<double>{0.0, NAN}, {0, 1}, {0, 1}}}), Error);
  CHECK_THROWS_AS(color_mask(picture, {ColorSpace::rgb, {}}, {0, 1, 1}), Error);
}

TEST_CASE(
    "one component is taken out of a box that others reach into, its holes are filled, its borders walked") {
  const Image<uint8_t> mask = drawn({"#.........",  //
                                     "..######..",  //
                                     "..#....#..",  //
                                     "..#.##.#.#",  //
                                     "..#....#..",  //
                                     "..######.."});
  const auto all = components(mask);
  REQUIRE(all.size() == 4);
  const Component& ring = all[1];
  CHECK(ring.area == 18);
  Image<uint8_t> alone = component_alone(mask, ring);
  CHECK(alone.width() == 8);
  CHECK(alone(2 + 1, 2 + 1) == 0);  // what lies inside it is another
  const auto lines = border_lines(alone);
  REQUIRE(lines.size() == 2);
  CHECK(lines[0].size() == 4);
  const auto area = [](const std::vector<Point2>& line) {
    double twice = 0;
    for (size_t i = 0; i < line.size(); ++i) twice += cross(line[i], line[(i + 1) % line.size()]);
    return twice / 2;
  };
  CHECK(area(lines[0]) == 30);   // clockwise as seen: positive, y running down
  CHECK(area(lines[1]) == -12);  // round a hole the other way
  CHECK(fill_holes(alone) == 12);
  CHECK(border_lines(alone).size() == 1);
  // Pixels that touch at a corner hang together, and their border is one line.
  const Image<uint8_t> steps = drawn({"#..", ".#.", "..#"});
  CHECK(border_lines(steps).size() == 1);
  CHECK(area(border_lines(steps)[0]) == 3);
}
