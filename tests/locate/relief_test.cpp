#include "heron/image/relief.hpp"

#include <doctest/doctest.h>

#include "heron/heights/square.hpp"
#include "heron/locate/pattern.hpp"
#include "heron/locate/prepared_picture.hpp"
#include "heron/render/tray_station.hpp"

using namespace heron;
using namespace heron::render;

namespace {

constexpr int map_side = 420;

/// `longer`: pixels so much higher than wide.
CameraModel profiler(double longer = 1) {
  return camera_above(
      600,
      {.fx = 2400, .fy = 2400 / longer, .cx = 0.5 * (map_side - 1), .cy = 0.5 * (map_side - 1) / longer});
}

/// An embossed leaf of some 5 mm on a table that leans, at a height of its own, with holes and noise.
Image<float> height_map(const Pose2& tile, double above_mm, Point2 slope, uint64_t seed, double longer = 1) {
  Scene scene;
  scene.camera = profiler(longer);
  scene.width = map_side, scene.height = static_cast<int>(map_side / longer);
  scene.background = 0;
  scene.pieces = tile_pieces("leaf", tile, 0.62);
  Image<float> map = exact_picture(scene);
  Random random(seed);
  for (int y = 0; y < map.height(); ++y)
    for (int x = 0; x < map_side; ++x) {
      const double table = above_mm + slope.x * x + slope.y * y;
      map(x, y) = static_cast<float>(0.04 * static_cast<double>(map(x, y)) + table + 0.02 * random.normal());
      if (random.uniform() < 0.01)
        for (int u = x; u < std::min(map_side, x + 6); ++u) map(u, y) = NAN;
    }
  return map;
}

PatternTarget taught_relief() {
  const Image<float> map = height_map({}, 0, {0, 0}, 1);
  const Point2 middle = profiler().project({0, 0, 0});
  const Region region = Region::rectangle(middle, 204, 152, {});
  const double step = relief_step(map, region.mask(map_side, map_side));
  const Relief relief = relief_of(map, step);
  return teach_pattern(relief.pixels, region,
                       {.name = "leaf", .height_step_mm = step, .options = {.min_contrast = 8 * step}},
                       relief.valid);
}

}  // namespace

TEST_CASE("a part is found by its relief, on a table that leans, high up, through holes") {
  const PatternTarget target = taught_relief();
  const double step = target.settings().height_step_mm;
  CHECK(step > 0.01);
  CHECK(step < 0.1);
  for (const auto& [above, slope] :
       {std::pair{0.0, Point2{0, 0}}, {35.0, Point2{0.01, -0.02}}, {-12.0, Point2{-0.015, 0}}}) {
    CAPTURE(above);
    const Pose2 tile{2.2, -1.3, 65_deg};
    const FindResult f =
        find(target, PreparedPicture(relief_of(height_map(tile, above, slope, 7), step).pixels),
             {.min_contrast = 8 * step});
    REQUIRE(f.detections.size() == 1);
    const Detection& s = f.detections[0];
    CHECK(s.score > 85);
    CHECK(distance({s.x, s.y}, profiler().project({tile.x, tile.y, 0})) < 0.05);
    CHECK(std::abs((s.angle + tile.angle).wrapped().degrees()) < 0.05);
    CHECK(s.contrast > 0.5);  // millimetres over two pixels
    CHECK(s.contrast < 4);
  }
  // A part that is too flat is named in millimetres.
  const FindResult flat = find(target, PreparedPicture(relief_of(height_map({}, 0, {0, 0}, 8), step).pixels),
                               {.min_contrast = 6});
  CHECK(flat.detections.empty());
  REQUIRE_FALSE(flat.misses.empty());
  CHECK(flat.misses[0].reasons[0].needed == "at least 6");
}

TEST_CASE("relief refuses what it cannot work on") {
  const Image<float> map = height_map({}, 0, {0, 0}, 1);
  CHECK_THROWS_WITH_AS(relief_of(map, 0), doctest::Contains("above 0"), Error);
  CHECK_THROWS_AS(relief_of(map, NAN), Error);
  Image<float> nothing(30, 20);
  for (int y = 0; y < 20; ++y) std::fill_n(nothing.row(y), 30, NAN);
  const Relief empty = relief_of(nothing, 1);
  CHECK(empty.valid(3, 3) == 0);
  Image<uint8_t> everywhere(30, 20);
  for (int y = 0; y < 20; ++y) std::fill_n(everywhere.row(y), 30, uint8_t{255});
  CHECK_THROWS_WITH_AS(relief_step(nothing, everywhere), doctest::Contains("no height"), Error);
}

TEST_CASE("a part that turned on a map of oblong pixels is found once these are square") {
  constexpr double longer = 1.25;
  const PatternTarget target = taught_relief();
  const double step = target.settings().height_step_mm;
  for (const double turn : {20.0, 90.0, -130.0}) {
    CAPTURE(turn);
    const Pose2 tile{2.2, -1.3, degrees(turn)};
    const Image<float> map = height_map(tile, 20, {0.01, -0.01}, 7, longer);
    const auto found_in = [&](const Image<float>& heights) {
      return find(target, PreparedPicture(relief_of(heights, step).pixels), {.min_contrast = 8 * step})
          .detections;
    };
    CHECK(found_in(map).empty());
    const SquarePixels<float> square = on_square_pixels(map, {0.25, 0.25 * longer});
    CHECK(square.pitch_mm == 0.25);
    const auto found = found_in(square.pixels);
    REQUIRE(found.size() == 1);
    const Point2 truth = profiler(longer).project({tile.x, tile.y, 0});
    CHECK(distance({found[0].x, found[0].y}, {truth.x, truth.y * longer}) < 0.1);
    CHECK(std::abs((found[0].angle + tile.angle).wrapped().degrees()) < 0.1);
  }
}
