#include <doctest/doctest.h>

#include <cmath>
#include <limits>

#include "heron/base/error.hpp"
#include "heron/light/light.hpp"
#include "heron/render/tray_station.hpp"

using namespace heron;
using namespace heron::render;

namespace {

/// Tiles on a tray under a light of one's choice; good as it stands.
struct Studio {
  Scene scene;
  Noise noise{.sigma = 1.5};
  Studio() {
    scene.camera = camera_above(600, {.fx = 2400, .fy = 2400});
    scene.background = 0.35;
    scene.texture = 0.01;
    int k = 0;
    for (const char* kind : {"leaf", "kite", "hexagon", "crescent", "leaf", "rosette"}) {
      for (const Piece& p : tile_pieces(kind, {-90.0 + 36 * k, 40.0 * (k % 3 - 1), degrees(40 * k)}, 0.85))
        scene.pieces.push_back(p);
      ++k;
    }
  }
  Image<uint8_t> picture() const {
    Random random(3);
    return expose(exact_picture(scene), noise, random);
  }
  LightReport judged(const LightOptions& o = {}) const { return judge_light(picture(), o); }
};

bool advises(const LightReport& r, const std::string& words) {
  for (const std::string& a : r.advice)
    if (a.find(words) != std::string::npos) return true;
  return false;
}

double value(const LightReport& r, const char* name) { return r.measure(name).value; }
Fitness fitness(const LightReport& r, const char* name) { return r.measure(name).fitness; }

}  // namespace

TEST_CASE("a good picture is called good, with nothing to do") {
  const LightReport r = Studio().judged();
  for (const LightMeasure& m : r.measures) {
    CAPTURE(m.name);
    CAPTURE(m.words);
    CHECK(m.fitness <= Fitness::good);
  }
  CHECK(r.advice.empty());
  CHECK(value(r, "noise") == doctest::Approx(1.5).epsilon(0.25));
}

TEST_CASE("exposure: dark and clipped pictures, as long as motion and cycle allow, gain for the rest") {
  Studio studio;
  studio.scene.exposure = 0.25;
  LightReport r = studio.judged();
  CHECK(fitness(r, "brightness") == Fitness::poor);
  CHECK(advises(r, "lengthen the exposure"));
  // The factor that it names makes the picture good.
  r = studio.judged({.exposure_ms = 5});
  REQUIRE(r.advice.size() >= 1);
  const double advised = std::stod(r.advice[0].substr(r.advice[0].find(" to ") + 4));
  studio.scene.exposure *= advised / 5;
  CHECK(fitness(studio.judged(), "brightness") == Fitness::good);
  studio.scene.exposure = 0.25;
  r = studio.judged({.exposure_ms = 5, .longest_exposure_ms = 8});
  CHECK(advises(r, "from 5 to 8 ms"));
  CHECK(advises(r, "raise the gain"));
  r = studio.judged({.exposure_ms = 5, .moving_px_per_ms = 0.08});
  CHECK(advises(r, "from 5 to 6.25 ms (what smears half a pixel"));

  studio.scene.exposure = 2.4;
  r = studio.judged();
  CHECK(fitness(r, "saturation") != Fitness::good);
  CHECK(advises(r, "shorten the exposure"));
}

TEST_CASE("uneven light, blur, noise, weak edges and glare are each named") {
  Studio uneven;
  uneven.scene.light = {1.0, {-0.7, 0}, 0};
  LightReport r = uneven.judged();
  CHECK(fitness(r, "uniformity") != Fitness::good);
  CHECK(value(r, "uniformity") == doctest::Approx(100 * (1 - 0.685 / 1.315)).epsilon(0.15));
  CHECK(advises(r, "light the right more"));

  Studio blurred;
  blurred.scene.blur_px = 3;
  r = blurred.judged();
  CHECK(fitness(r, "sharpness") != Fitness::good);
  CHECK(value(r, "sharpness") == doctest::Approx(2.563 * std::hypot(3, 0.29)).epsilon(0.15));
  CHECK(advises(r, "focus"));
  blurred.scene.blur_px = 0.8;
  CHECK(value(blurred.judged(), "sharpness") == doctest::Approx(2.563 * std::hypot(0.8, 0.29)).epsilon(0.15));

  Studio noisy;
  noisy.noise.sigma = 8;
  r = noisy.judged();
  CHECK(value(r, "noise") == doctest::Approx(8).epsilon(0.1));
  CHECK(advises(r, "lower the gain"));

  Studio weak;
  for (Piece& p : weak.scene.pieces) p.reflectance = 0.35 + 0.1 * (p.reflectance - 0.35);
  weak.scene.exposure = 2;
  r = weak.judged();
  CHECK(fitness(r, "contrast") != Fitness::good);
  CHECK(advises(r, "edges are weak"));

  Studio glare;
  glare.scene.glares.push_back({{400, 300}, 30, 1.5});
  r = glare.judged();
  REQUIRE(r.glares.size() == 1);
  CHECK(distance(r.glares[0].centre, {400, 300}) < 3);
  CHECK(advises(r, "reflected at (400, 300)"));
  // A white thing is no glare.
  Studio white;
  white.scene.pieces.push_back({disc(8), {-40, 60, {}}, 1.3});
  CHECK(white.judged().glares.empty());
}

TEST_CASE("a camera that is not square to a board, or to round shapes, is told by how much") {
  for (const double tilt : {0.0, 12.0, 30.0}) {
    CAPTURE(tilt);
    Scene scene;
    scene.camera = camera_above(600, {.fx = 2400, .fy = 2400}, degrees(tilt), 40_deg);
    const BoardShape dots{.kind = BoardKind::dots, .columns = 9, .rows = 7, .pitch_mm = 18},
        checker{.kind = BoardKind::checker, .columns = 9, .rows = 7, .pitch_mm = 18};
    Random random(5);
    scene.pieces = board_pieces(checker, {-72, -54, {}});
    const Image<uint8_t> checkers = expose(exact_picture(scene), {.sigma = 2}, random);
    scene.pieces = board_pieces(dots, {-72, -54, {}});
    const Image<uint8_t> round = expose(exact_picture(scene), {.sigma = 2}, random);
    for (const double seen : {value(judge_light(checkers, {.board = checker}), "perpendicularity"),
                              value(judge_light(round), "perpendicularity")}) {
      if (tilt == 0)
        CHECK(seen < 4);
      else
        CHECK(seen == doctest::Approx(tilt).epsilon(0.12));
    }
  }
}

TEST_CASE("regions, empty pictures and wrong calls") {
  Studio studio;
  studio.scene.light = {1.0, {-0.7, 0}, 0};
  CHECK(fitness(studio.judged({.region = Region::rectangle(Box{100, 100, 300, 700})}), "uniformity") ==
        Fitness::good);
  for (const uint8_t grey : {0, 128, 255}) {
    Image<uint8_t> flat(200, 150);
    for (int y = 0; y < 150; ++y) std::fill_n(flat.row(y), 200, grey);
    const LightReport r = judge_light(flat);
    CHECK(r.overall == Fitness::poor);
    CHECK(std::isnan(value(r, "contrast")));
  }
  const Image<uint8_t> picture = studio.picture();
  CHECK_THROWS_AS(judge_light(Image<uint8_t>(1, 1)), Error);
  CHECK_THROWS_AS(judge_light(picture, {.region = Region::rectangle(Box{5000, 5000, 30, 30})}), Error);
  CHECK_THROWS_AS(judge_light(picture, {.region = Region::rectangle(Box{10, 10, 20, 200})}), Error);
  CHECK_THROWS_AS(judge_light(picture, {.exposure_ms = 0}), Error);
  CHECK_THROWS_AS(judge_light(picture, {.moving_px_per_ms = NAN}), Error);
  CHECK_THROWS_AS(LightReport{}.measure("colour"), Error);
}

TEST_CASE("what a picture does not show is not judged as good") {
  Image<uint8_t> flat(200, 150);
  for (int y = 0; y < 150; ++y) std::fill_n(flat.row(y), 200, uint8_t{180});
  const LightReport r = judge_light(flat);
  CHECK(fitness(r, "perpendicularity") == Fitness::unknown);
  CHECK(fitness(r, "sharpness") == Fitness::unknown);
  CHECK(fitness(r, "brightness") == Fitness::good);
}

TEST_CASE("a height map is judged by its holes") {
  Image<float> map(100, 80);
  CHECK(judge_heights(map).overall == Fitness::good);
  for (int y = 0; y < 80; ++y)
    for (int x = 0; x < 10; ++x) map(x, y) = std::numeric_limits<float>::quiet_NaN();
  const LightReport r = judge_heights(map);
  CHECK(r.measures[0].value == doctest::Approx(10));
  CHECK(r.overall == Fitness::fair);
  CHECK(judge_heights(map, Region::rectangle(Box{40, 0, 60, 80})).overall == Fitness::good);
}
