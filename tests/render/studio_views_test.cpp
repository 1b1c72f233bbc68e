// The studio's scenes: what they say is there is there, against closed formulas and the picture itself.
#include <doctest/doctest.h>

#include <cmath>

#include "heron/image/picture.hpp"
#include "heron/render/studio_views.hpp"

using namespace heron;
using render::StudioFilling;
using render::StudioView;

namespace {

/// Brightness of the exact picture without noise, blur as the view has it.
Image<float> exact_of(const StudioView& view) { return render::exact_picture(view.scene); }

float at(const Image<float>& picture, Point2 p) {
  return picture(static_cast<int>(std::lround(p.x)), static_cast<int>(std::lround(p.y)));
}

}  // namespace

TEST_CASE("a shadow takes its share of the light, softly, and nothing elsewhere") {
  render::Scene scene;
  scene.camera = render::straight_camera(400, 300, 1);
  scene.width = 400, scene.height = 300, scene.background = 0.5;
  const Image<float> lit = render::exact_picture(scene);
  scene.shadows.push_back({{200, 150}, 90_deg, 80, 0.4, 5});
  const Image<float> shaded = render::exact_picture(scene);
  for (int y : {5, 150, 290}) {
    CHECK(shaded(200, y) == doctest::Approx(0.6 * lit(200, y)).epsilon(0.001));
    CHECK(shaded(100, y) == doctest::Approx(lit(100, y)).epsilon(0.001));
    CHECK(shaded(240, y) == doctest::Approx(0.8 * lit(240, y)).epsilon(0.001));  // the middle of its border
    CHECK(shaded(160, y) == doctest::Approx(0.8 * lit(160, y)).epsilon(0.001));
  }
  // Two of them leave the product; a slanted one is as wide.
  scene.shadows.push_back({{200, 150}, 0_deg, 80, 0.5, 5});
  CHECK(render::exact_picture(scene)(200, 150) == doctest::Approx(0.3 * lit(200, 150)).epsilon(0.001));
  scene.shadows = {{{200, 150}, 45_deg, 80, 0.4, 0.5}};
  const Image<float> slanted = render::exact_picture(scene);
  const auto off_line = [&](double d) { return Point2{200 - d * std::sqrt(0.5), 150 + d * std::sqrt(0.5)}; };
  CHECK(at(slanted, off_line(36)) == doctest::Approx(0.6 * at(lit, off_line(36))).epsilon(0.01));
  CHECK(at(slanted, off_line(44)) == doctest::Approx(at(lit, off_line(44))).epsilon(0.01));
}

TEST_CASE("a gauge plate's corners and bore lie where the picture shows them") {
  for (uint64_t seed = 1; seed <= 4; ++seed) {
    render::Random random(seed);
    const StudioView view = render::gauge_plate(random, {.hard = seed > 1});
    REQUIRE(view.parts.size() == 1);
    const render::StudioPart& plate = view.parts[0];
    REQUIRE(plate.corners.size() == 4);
    REQUIRE(plate.chips.size() == 1);
    // 110 x 80 mm at four pixels a millimetre, the corners clockwise from the upper left.
    CHECK(distance(plate.corners[0], plate.corners[1]) == doctest::Approx(440));
    CHECK(distance(plate.corners[1], plate.corners[2]) == doctest::Approx(320));
    CHECK(plate.corners[0].x < plate.corners[1].x);
    CHECK(plate.corners[0].y < plate.corners[3].y);
    const Point2 middle = (plate.corners[0] + plate.corners[2]) / 2;
    CHECK(distance(middle, plate.pixel) < 1e-9);
    CHECK((direction(plate.corners[1] - plate.corners[0]) - plate.angle).wrapped().degrees() ==
          doctest::Approx(0).epsilon(1e-9));
    const Image<float> picture = exact_of(view);
    const Point2 bore = plate.chips[0].pixel;
    CHECK(at(picture, bore) < 0.5f * at(picture, bore + Point2{48, 0}));
    CHECK(plate.chips[0].diameter_px == 64);
  }
  render::Random random(9);
  CHECK(render::gauge_plate(random, {.hard = true, .empty = true}).parts.empty());
}

TEST_CASE("a floor's stripe crosses the middle row where its truth says, in its own color") {
  for (uint64_t seed = 20; seed < 24; ++seed) {
    render::Random random(seed);
    StudioView view = render::floor_stripe(random, {.hard = true});
    REQUIRE(view.parts.size() == 1);
    CHECK(view.parts[0].pixel.y == doctest::Approx(511.5));
    CHECK(std::abs(view.parts[0].angle.degrees()) < 20);
    // Without its wear: the stripe alone.
    view.scene.pieces.resize(1), view.scene.glares.clear(), view.scene.shadows.clear();
    view.scene.light = {}, view.scene.texture = 0;
    const auto channels = render::exact_channels(view.scene);
    for (const double up : {-60.0, 0.0, 60.0}) {
      // Its middle is where its two edges are: the centroid of what is not floor in that row.
      double weight = 0, sum = 0;
      const int y = static_cast<int>(511.5 - up);
      const float floor = channels[0](2, y);
      for (int x = 0; x < 1280; ++x) {
        const double off = std::max(0.0f, floor - channels[0](x, y));
        weight += off, sum += off * x;
      }
      const double expected = view.parts[0].pixel.x + std::tan(view.parts[0].angle.radians()) * up;
      CHECK(std::abs(sum / weight - expected) <
            0.6 + 0.0012 / 4 * up * up + 0.5 * std::abs(std::tan(view.parts[0].angle.radians())));
    }
    CHECK(at(channels[1], view.parts[0].pixel) > 2 * at(channels[0], view.parts[0].pixel));  // teal
  }
}

TEST_CASE("the same seed gives the same picture, another one another") {
  for (const bool hard : {false, true}) {
    const auto pixels = [&](uint64_t seed) {
      render::Random random(seed);
      const StudioView view = render::gauge_plate(random, {.hard = hard});
      return std::get<Image<uint8_t>>(render::picture_of(view, random).pixels);
    };
    const Image<uint8_t> a = pixels(5), b = pixels(5), c = pixels(6);
    int differ = 0;
    for (int y = 0; y < a.height(); y += 7)
      for (int x = 0; x < a.width(); x += 7) {
        CHECK(a(x, y) == b(x, y));
        differ += a(x, y) != c(x, y);
      }
    CHECK(differ > 1000);
  }
}

TEST_CASE("easy views have what is asked for, and hard ones keep the truth inside the picture") {
  using Make = StudioView (*)(render::Random&, const StudioFilling&);
  for (const Make make : {Make(render::glazed_tiles), Make(render::leaf_blanks), Make(render::floor_panel),
                          Make(render::gauge_plate), Make(render::floor_stripe)})
    for (uint64_t seed = 50; seed < 56; ++seed)
      for (const bool hard : {false, true}) {
        render::Random random(seed);
        const StudioView view = make(random, {.hard = hard, .parts = 2});
        CHECK(!view.parts.empty());
        for (const render::StudioPart& part : view.parts) {
          CHECK(part.pixel.x > 0);
          CHECK(part.pixel.x < 1279);
          CHECK(part.pixel.y > 0);
          CHECK(part.pixel.y < 1023);
          CHECK(!part.kind.empty());
        }
        CHECK(view.scene.light.level >= 0.3);
        CHECK(view.scene.light.level <= 1.5);
        render::Random other(seed);
        const StudioView empty = make(other, {.hard = hard, .empty = true});
        CHECK(empty.parts.empty());
      }
}
