#include "heron/image/components.hpp"

#include <doctest/doctest.h>

#include <queue>

#include "heron/image/color_space.hpp"
#include "heron/render/random.hpp"
#include "image/plain_kernels.hpp"
#include "image/row_changes.hpp"

using namespace heron;

namespace {

Image<uint8_t> speckled_mask(int width, int height, double share, uint64_t seed) {
  render::Random random(seed);
  Image<uint8_t> mask(width, height);
  for (int y = 0; y < height; ++y)
    for (int x = 0; x < width; ++x)
      mask(x, y) = random.uniform() < share ? static_cast<uint8_t>(random.whole(1, 255)) : 0;
  return mask;
}

/// Pixels that hang together with (x, y), by a flood; they are taken out of `left`.
std::vector<std::pair<int, int>> flooded(Image<uint8_t>& left, int x, int y, bool set, bool diagonal) {
  std::vector<std::pair<int, int>> all;
  std::queue<std::pair<int, int>> open;
  const auto take = [&](int u, int v) {
    left(u, v) = set ? 0 : 255;
    open.push({u, v}), all.push_back({u, v});
  };
  take(x, y);
  while (!open.empty()) {
    const auto [u, v] = open.front();
    open.pop();
    for (int dy = -1; dy <= 1; ++dy)
      for (int dx = -1; dx <= 1; ++dx)
        if ((diagonal || dx == 0 || dy == 0) && left.view().holds(u + dx, v + dy) &&
            (left(u + dx, v + dy) != 0) == set)
          take(u + dx, v + dy);
  }
  return all;
}

}  // namespace

TEST_CASE("components are those of a flood at every width, and each alone is its pixels") {
  for (const int width : {1, 2, 7, 63, 64, 65, 127, 128, 200})
    for (const double share : {0.1, 0.45, 0.9}) {
      const Image<uint8_t> mask = speckled_mask(width, 23, share, static_cast<uint64_t>(width));
      const std::vector<Component> found = components(mask);
      Image<uint8_t> left = mask;
      size_t index = 0;
      for (int y = 0; y < mask.height(); ++y)
        for (int x = 0; x < mask.width(); ++x) {
          if (!left(x, y)) continue;
          const auto pixels = flooded(left, x, y, true, true);
          REQUIRE(index < found.size());
          const Component& c = found[index++];
          CHECK(c.area == static_cast<double>(pixels.size()));
          CHECK(c.first_x == x);
          CHECK(c.top == y);
          double sum_x = 0, sum_y = 0, sum_xy = 0;
          for (const auto& [u, v] : pixels) sum_x += u, sum_y += v;
          sum_x /= c.area, sum_y /= c.area;
          for (const auto& [u, v] : pixels) sum_xy += (u - sum_x) * (v - sum_y) / c.area;
          CHECK(c.x == doctest::Approx(sum_x));
          CHECK(c.y == doctest::Approx(sum_y));
          CHECK(c.xy == doctest::Approx(sum_xy).epsilon(1e-6));
          const Image<uint8_t> alone = component_alone(mask, c);
          REQUIRE(alone.width() == c.right - c.left + 3);
          int64_t set = 0;
          for (int v = 0; v < alone.height(); ++v)
            for (int u = 0; u < alone.width(); ++u) set += alone(u, v) == 255;
          CHECK(set == static_cast<int64_t>(pixels.size()));
          for (const auto& [u, v] : pixels) CHECK(alone(u - c.left + 1, v - c.top + 1) == 255);
        }
      CHECK(index == found.size());
    }
}

TEST_CASE("a row's changes are those of its pixels one by one") {
  render::Random random(12);
  for (const int width : {1, 2, 31, 63, 64, 65, 127, 128, 200, 1280})
    for (const double share : {0.0, 0.1, 0.5, 0.9, 1.0})
      for (const bool set : {true, false}) {
        CAPTURE(width);
        CAPTURE(share);
        std::vector<uint8_t> row(static_cast<size_t>(width));
        for (uint8_t& v : row) v = random.uniform() < share ? static_cast<uint8_t>(random.whole(1, 255)) : 0;
        RowChanges fast(width), plain(width);
        const int count = row_changes(row.data(), set, fast);
        REQUIRE(count == row_changes_plain(row.data(), set, plain));
        CHECK(count % 2 == 0);
        CHECK(std::equal(plain.places.begin(), plain.places.begin() + count, fast.places.begin()));
      }
}

TEST_CASE("holes are what no path of clear pixels joins to the border") {
  for (const int width : {3, 40, 64, 130}) {
    Image<uint8_t> mask = speckled_mask(width, 31, 0.62, 9 + static_cast<uint64_t>(width));
    Image<uint8_t> left = mask;
    Image<uint8_t> expected = mask;
    int64_t holes = 0;
    for (int y = 0; y < mask.height(); ++y)
      for (int x = 0; x < mask.width(); ++x) {
        if (left(x, y)) continue;
        const auto pixels = flooded(left, x, y, false, false);
        bool open = false;
        for (const auto& [u, v] : pixels)
          open = open || u == 0 || v == 0 || u == mask.width() - 1 || v == mask.height() - 1;
        if (open) continue;
        holes += static_cast<int64_t>(pixels.size());
        for (const auto& [u, v] : pixels) expected(u, v) = 255;
      }
    CHECK(fill_holes(mask) == holes);
    for (int y = 0; y < mask.height(); ++y)
      for (int x = 0; x < mask.width(); ++x) CHECK((mask(x, y) != 0) == (expected(x, y) != 0));
  }
  Image<uint8_t> nothing;
  CHECK(fill_holes(nothing) == 0);
}

TEST_CASE("a component's border encloses its area, holes taken off") {
  const Image<uint8_t> mask = speckled_mask(60, 50, 0.5, 77);
  for (const Component& c : components(mask)) {
    double twice = 0;
    for (const auto& line : border_lines(component_alone(mask, c)))
      for (size_t i = 0; i < line.size(); ++i) twice += cross(line[i], line[(i + 1) % line.size()]);
    CHECK(0.5 * twice == doctest::Approx(c.area));
  }
}

TEST_CASE("every range of every space gives the same mask with vectors and without") {
  render::Random random(12);
  Image<Rgb> picture(133, 40);
  for (int y = 0; y < picture.height(); ++y)
    for (int x = 0; x < picture.width(); ++x)
      picture(x, y) = {static_cast<uint8_t>(random.whole(0, 255)), static_cast<uint8_t>(random.whole(0, 255)),
                       static_cast<uint8_t>(random.whole(0, 255))};
  const ColorRange ranges[] = {{ColorSpace::rgb, {Range{20.0, 200.0}, {0, 150}, {90, 255}}},
                               {ColorSpace::hsv, {Range{350.0, 10.0}, {0, 100}, {0, 100}}},
                               {ColorSpace::hsv, {Range{20.0, 300.0}, {30, 100}, {10, 90}}},
                               {ColorSpace::hsl, {Range{100.0, 160.0}, {25, 80}, {15, 85}}},
                               {ColorSpace::hsl, {Range{0.0, 360.0}, {0, 100}, {40, 60}}},
                               {ColorSpace::ycbcr, {Range{16.0, 200.0}, {90, 160}, {100, 200}}},
                               {ColorSpace::lab, {Range{20.0, 80.0}, {-40, 30}, {-20, 60}}}};
  for (const ColorRange& range : ranges)
    for (const std::array<double, 3>& gains : {std::array{1.0, 1.0, 1.0}, {1.4, 0.8, 1.1}}) {
      const Image<uint8_t> fast = color_mask(picture, range, gains),
                           plain = color_mask_plain(picture, range, gains);
      int64_t set = 0;
      for (int y = 0; y < picture.height(); ++y)
        for (int x = 0; x < picture.width(); ++x) {
          CHECK(fast(x, y) == plain(x, y));
          set += fast(x, y) != 0;
          if (gains[0] != 1) continue;
          // By the space's own numbers, except where a bound is only just missed.
          const Rgb p = picture(x, y);
          const auto c = in_space(std::array<double, 3>{static_cast<double>(p.r), static_cast<double>(p.g),
                                                        static_cast<double>(p.b)},
                                  range.space);
          bool in = true, near = false;
          for (size_t i = 0; i < 3; ++i) {
            const auto& [low, high] = range.channels[i];
            const bool wraps = low > high;
            in = in && (wraps ? c[i] >= low || c[i] <= high : c[i] >= low && c[i] <= high);
            near = near || std::abs(c[i] - low) < 0.3 || std::abs(c[i] - high) < 0.3;
          }
          if (!near) CHECK((fast(x, y) != 0) == in);
        }
      CHECK(set > 0);
    }
}
