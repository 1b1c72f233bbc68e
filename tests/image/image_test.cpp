#include <doctest/doctest.h>

#include <queue>

#include "heron/image/components.hpp"
#include "heron/image/gradient.hpp"
#include "heron/image/picture.hpp"
#include "heron/image/pyramid.hpp"
#include "heron/image/region.hpp"
#include "heron/image/sample.hpp"
#include "heron/image/smooth.hpp"
#include "heron/render/random.hpp"
#include "image/plain_kernels.hpp"
#include "image/sample_places.hpp"

using namespace heron;

namespace {

Image<uint8_t> speckled(int width, int height, uint32_t seed = 7) {
  Image<uint8_t> image(width, height);
  for (int y = 0; y < height; ++y)
    for (int x = 0; x < width; ++x)
      image(x, y) = static_cast<uint8_t>((seed = seed * 1664525u + 1013904223u) >> 24);
  return image;
}

bool same(const Image<uint8_t>& a, const Image<uint8_t>& b) {
  if (a.width() != b.width() || a.height() != b.height()) return false;
  for (int y = 0; y < a.height(); ++y)
    if (!std::equal(a.row(y), a.row(y) + a.width(), b.row(y))) return false;
  return true;
}

int area(const Image<uint8_t>& mask) {
  int n = 0;
  for (int y = 0; y < mask.height(); ++y)
    for (int x = 0; x < mask.width(); ++x) n += mask(x, y) != 0;
  return n;
}

}  // namespace

TEST_CASE("an image that was moved from is empty") {
  Image<uint8_t> first(5, 4), second(3, 2);
  const Image<uint8_t> taken(std::move(first));
  CHECK(taken.width() == 5);
  CHECK(first.empty());  // NOLINT(bugprone-use-after-move)
  second = Image<uint8_t>(7, 6);
  first = std::move(second);
  CHECK(first.width() == 7);
  CHECK(second.empty());  // NOLINT(bugprone-use-after-move)
}

TEST_CASE("new pictures are zero, copies equal, and behind all rows stand zeros") {
  const auto is_clear_behind = [](const Image<uint8_t>& image) {
    bool clear = true;
    for (int y = 0; y < image.height(); ++y)
      for (std::ptrdiff_t x = image.width(); x < image.stride(); ++x) clear = clear && image.row(y)[x] == 0;
    for (size_t i = 0; i < Image<uint8_t>::alignment; ++i) clear = clear && image.row(image.height())[i] == 0;
    return clear;
  };
  for (const int width : {1, 63, 64, 65}) {
    const Image<uint8_t> full = speckled(width, 5), empty(width, 5), copy(full);
    CHECK(same(full, copy));
    CHECK(is_clear_behind(copy));
    CHECK(is_clear_behind(Image<uint8_t>::uninitialized(width, 5)));
    for (int y = 0; y < 5; ++y) CHECK(std::count(empty.row(y), empty.row(y) + width, uint8_t{0}) == width);
  }
  CHECK(Image<uint8_t>(Image<uint8_t>()).empty());
  CHECK_THROWS_AS(Image<uint8_t>::uninitialized(-1, 3), Error);
}

TEST_CASE("kernels give the bits of their plain twins at every width") {
  for (int width : {1, 2, 3, 7, 16, 31, 33, 64, 65, 130, 257}) {
    CAPTURE(width);
    const Image<uint8_t> image = speckled(width, 9, static_cast<uint32_t>(width));
    CHECK(same(halve(image), halve_plain(image)));
    const Gradients fast = gradients(image), plain = gradients_plain(image);
    CHECK(same(fast.direction, plain.direction));
    CHECK(same(fast.size, plain.size));
    Image<float> grey(width, 9);
    for (int y = 0; y < 9; ++y) std::copy_n(image.row(y), width, grey.row(y));
    const Image<float> a = smooth(grey.view(), 1.3), b = smooth_plain(grey.view(), 1.3);
    bool equal = true;
    for (int y = 0; y < 9; ++y) equal = equal && std::equal(a.row(y), a.row(y) + width, b.row(y));
    CHECK(equal);
  }
}

TEST_CASE("a gradient's direction is right to one step of 256 and its size is that of a ramp") {
  for (int step = 0; step < 256; step += 5) {
    const Angle a = degrees(360.0 * step / 256);
    Image<uint8_t> ramp(9, 9);
    for (int y = 0; y < 9; ++y)
      for (int x = 0; x < 9; ++x)
        ramp(x, y) = static_cast<uint8_t>(std::lround(128 + 15 * ((x - 4) * cos(a) + (y - 4) * sin(a))));
    const Gradients g = gradients(ramp);
    CHECK(std::abs(static_cast<int8_t>(g.direction(4, 4) - step)) <= 2);  // the ramp itself is rounded
    CHECK(g.size(4, 4) == doctest::Approx(30).epsilon(0.05));
    CHECK(g.size(0, 4) == 0);
  }
}

TEST_CASE("smoothing keeps a constant, spreads a point into a Gaussian, and refuses a negative sigma") {
  Image<float> point(41, 41);
  point(20, 20) = 1;
  const Image<float> soft = smooth(point.view(), 2.0);
  double sum = 0, second = 0;
  for (int y = 0; y < 41; ++y)
    for (int x = 0; x < 41; ++x) sum += soft(x, y), second += soft(x, y) * (x - 20) * (x - 20);
  CHECK(sum == doctest::Approx(1).epsilon(1e-5));
  CHECK(std::sqrt(second) == doctest::Approx(2).epsilon(0.01));
  CHECK_THROWS_AS(smooth(point.view(), -1), Error);
  CHECK_THROWS_AS(smooth(point.view(), NAN), Error);
}

TEST_CASE("a level's coordinates lie half a pixel apart from those below") {
  const Point2 p{10.25, 33.5};
  CHECK(distance(from_level(to_level(p, 3), 3), p) < 1e-12);
  CHECK(from_level({0, 0}, 1).x == doctest::Approx(0.5));
  CHECK(from_level({0, 0}, 3).x == doctest::Approx(3.5));
}

TEST_CASE(
    "the kernel that reads lanes of places reads what one by one gives, up to the picture's last centre and "
    "beyond") {
  const Image<uint8_t> picture = speckled(203, 151);
  render::Random random(8);
  const auto draw = [&](double least, double most) {
    return static_cast<float>(random.uniform(least, most));
  };
  for (const auto& [count, lanes] :
       {std::pair<size_t, size_t>{0, 3}, {40, 0}, {1, 1}, {17, 6}, {64, 11}, {65, 2}, {500, 3}}) {
    LanesOfPlaces places{even_below(100.5), even_below(75), {}, {}, {}, {}, {}};
    for (size_t k = 0; k < count; ++k)
      places.along_x.push_back(draw(0, 60)), places.along_y.push_back(draw(0, 60));
    for (size_t i = 0; i < lanes; ++i)
      places.lanes.push_back({draw(-60, 60), draw(-40, 40), draw(-1, 1), draw(-1, 1)});
    std::vector<float> sums;
    sum_over_lanes(picture, places, sums);
    REQUIRE(sums.size() == count);
    for (size_t k = 0; k < count; ++k) {
      double sum = 0, within = 0.02;
      for (const auto& lane : places.lanes) {
        const double x = 100.0 + lane.x + places.along_x[k] * lane.by_x,
                     y = 74.0 + lane.y + places.along_y[k] * lane.by_y;
        sum += bilinear(picture.view(), std::clamp(x, 0.0, 202.0), std::clamp(y, 0.0, 150.0));
        within += x > 201.98 || y > 149.98 ? 5.2 : 0.01;  // a hundredth of a pixel at the last centres
      }
      CHECK(std::abs(sums[k] - sum) < within);
    }
  }
  for (const auto& [width, height] : {std::pair{1, 1}, {1, 9}, {9, 1}}) {
    const Image<uint8_t> thin = speckled(width, height);
    std::vector<float> sums;
    sum_over_lanes(thin, {0, 0, {0, 100}, {0, 0}, {}, {}, {{0, 0, 1, 1}}}, sums);
    CHECK(sums[1] == thin(width - 1, 0));
  }
}

TEST_CASE("the kernel's skew of a bilinear reading is the third moment of its four weights along the line") {
  const Image<uint8_t> picture = speckled(90, 70);
  for (const auto& [start, step] : {std::pair<Point2, Point2>{{3.2, 7.9}, {1, 0}},
                                    {{40, 11.5}, {0, 1}},
                                    {{12.3, 40.1}, {0.6, -0.8}},
                                    {{2.7, 5.5}, {0.9, 0.2}}}) {
    const double square = dot(step, step);
    LanesOfPlaces places{even_below(start.x), even_below(start.y), {}, {}, {}, {}, {}};
    for (int k = 0; k < 21; ++k) {
      places.along_x.push_back(static_cast<float>(k)), places.along_y.push_back(static_cast<float>(k));
      places.cubed_x.push_back(static_cast<float>(std::pow(step.x / square, 3)));
      places.cubed_y.push_back(static_cast<float>(std::pow(step.y / square, 3)));
    }
    places.lanes.push_back({static_cast<float>(start.x - places.origin_x),
                            static_cast<float>(start.y - places.origin_y), static_cast<float>(step.x),
                            static_cast<float>(step.y)});
    std::vector<float> sums, skew;
    sum_over_lanes(picture, places, sums, &skew);
    for (size_t k = 0; k < sums.size(); ++k) {
      const Point2 p = start + step * static_cast<double>(k);
      const double fx = p.x - std::floor(p.x), fy = p.y - std::floor(p.y);
      double third = 0;
      for (int i = 0; i < 2; ++i)
        for (int j = 0; j < 2; ++j) {
          const double along = dot(step, {i - fx, j - fy}) / square;
          third += (i ? fx : 1 - fx) * (j ? fy : 1 - fy) * along * along * along;
        }
      CHECK(skew[k] == doctest::Approx(third).epsilon(1e-3).scale(0.01));
    }
  }
}

TEST_CASE("bilinear sampling is exact on a plane, up to the last pixel") {
  Image<uint8_t> plane(20, 10);
  for (int y = 0; y < 10; ++y)
    for (int x = 0; x < 20; ++x) plane(x, y) = static_cast<uint8_t>(10 + 3 * x + 5 * y);
  const ImageView<const uint8_t> view = plane;
  CHECK(bilinear(view, 3.25, 4.5) == doctest::Approx(10 + 3 * 3.25 + 5 * 4.5));
  CHECK(bilinear(view, 19, 9) == doctest::Approx(10 + 57 + 45));
  CHECK_FALSE(can_sample(view, 19.01, 3));
  CHECK_FALSE(can_sample(view, NAN, 3));
}

TEST_CASE("regions hold what their shapes hold, added and cut out in order") {
  CHECK(area(Region::rectangle({10, 20, 30, 40}).mask(100, 100)) == 1200);
  CHECK(area(Region::rectangle({-5, -5, 10, 10}).mask(100, 100)) == 25);
  CHECK(area(Region::ellipse({50, 50}, 20, 10).mask(100, 100)) ==
        doctest::Approx(std::numbers::pi * 200).epsilon(0.02));
  CHECK(area(Region::ring({50, 50}, 10, 20).mask(100, 100)) ==
        doctest::Approx(std::numbers::pi * 300).epsilon(0.02));
  CHECK(area(Region::rectangle({50, 50}, 40, 20, 30_deg).mask(100, 100)) ==
        doctest::Approx(800).epsilon(0.03));
  CHECK(area(Region::polygon({{10, 10}, {50, 10}, {10, 50}}).mask(100, 100)) ==
        doctest::Approx(800).epsilon(0.04));

  Region region = Region::rectangle({0, 0, 50, 50});
  region.subtract(Region::rectangle({10, 10, 20, 20})).add(Region::rectangle({15, 15, 5, 5}));
  CHECK(area(region.mask(100, 100)) == 2500 - 400 + 25);
  CHECK(region.contains({16, 16}));
  CHECK_FALSE(region.contains({12, 12}));
  CHECK(Region().empty());
  CHECK(area(Region().mask(10, 10)) == 0);
  // Two rectangles that share an edge share no pixel.
  CHECK(area(Region::rectangle({0, 0, 10, 10}).add(Region::rectangle({10, 0, 10, 10})).mask(50, 50)) == 200);
}

TEST_CASE("regions without size or place are refused") {
  CHECK_THROWS_AS(Region::rectangle({0, 0, 0, 10}), Error);
  CHECK_THROWS_AS(Region::rectangle({NAN, 0, 5, 10}), Error);
  CHECK_THROWS_AS(Region::ellipse({0, 0}, -1, 3), Error);
  CHECK_THROWS_AS(Region::polygon({{0, 0}, {1, 1}}), Error);
  CHECK_THROWS_AS(Region::ring({0, 0}, 5, 5), Error);
}

TEST_CASE("components are those of a flood fill") {
  Image<uint8_t> mask = speckled(70, 50);
  for (int y = 0; y < 50; ++y)
    for (int x = 0; x < 70; ++x) mask(x, y) = mask(x, y) > 160 ? 255 : 0;
  const std::vector<Component> found = components(mask);
  std::vector<int> areas;
  Image<uint8_t> left = mask;
  for (int y0 = 0; y0 < 50; ++y0)
    for (int x0 = 0; x0 < 70; ++x0) {
      if (!left(x0, y0)) continue;
      std::queue<std::pair<int, int>> open;
      open.push({x0, y0});
      left(x0, y0) = 0;
      int n = 0;
      while (!open.empty()) {
        const auto [x, y] = open.front();
        open.pop();
        ++n;
        for (int v = -1; v <= 1; ++v)
          for (int u = -1; u <= 1; ++u)
            if (left.view().holds(x + u, y + v) && left(x + u, y + v))
              left(x + u, y + v) = 0, open.push({x + u, y + v});
      }
      areas.push_back(n);
    }
  REQUIRE(found.size() == areas.size());
  for (size_t i = 0; i < found.size(); ++i) CHECK(found[i].area == areas[i]);
}

TEST_CASE("a component's moments are those of its pixels") {
  Image<uint8_t> mask(30, 30);
  for (int y = 5; y < 15; ++y)
    for (int x = 8; x < 28; ++x) mask(x, y) = 1;
  const auto found = components(mask);
  REQUIRE(found.size() == 1);
  CHECK(found[0].x == doctest::Approx(17.5));
  CHECK(found[0].y == doctest::Approx(9.5));
  CHECK(found[0].xx == doctest::Approx((20.0 * 20 - 1) / 12));
  CHECK(found[0].yy == doctest::Approx((10.0 * 10 - 1) / 12));
}

TEST_CASE("grey levels of color and 16 bit, and none of a height map") {
  Picture picture;
  Image<Rgb> color(2, 1);
  color(0, 0) = {255, 255, 255}, color(1, 0) = {255, 0, 0};
  picture.pixels = std::move(color);
  CHECK(grey_levels(picture)(0, 0) == 255);
  CHECK(grey_levels(picture)(1, 0) == 76);
  Image<uint16_t> wide(1, 1);
  wide(0, 0) = 65535;
  picture.pixels = std::move(wide);
  CHECK(grey_levels(picture)(0, 0) == 255);
  picture.pixels = Image<float>(3, 3);
  CHECK_THROWS_AS(grey_levels(picture), Error);
}
