#include <doctest/doctest.h>

#include <cmath>

#include "heron/base/error.hpp"
#include "heron/heights/ground.hpp"
#include "heron/render/stack_station.hpp"
#include "sanitized.hpp"

using namespace heron;
using namespace heron::render;

TEST_CASE("a table is leveled within 0.01 degrees with 40 % of it under tiles and 10 % holes") {
  double worst = 0, worst_offset = 0;
  int within = 0;
  const int runs = sanitized ? 6 : 60;
  for (uint64_t seed = 1; seed <= runs; ++seed) {
    CAPTURE(seed);
    const StackStation s = make_stack_station(seed);
    CHECK(s.covered > 0.39);
    const GroundFound g = find_ground(s.map, s.pitch_mm);
    REQUIRE_MESSAGE(g.found, g.reason);
    const Point2 off = g.plane.slope - s.slope;
    worst = std::max(worst, radians(norm(off)).degrees());
    worst_offset = std::max(worst_offset, std::abs(g.plane.offset_mm - s.offset_mm));
    within += std::abs(off.x) < 2 * g.plane.sigma_tilt.radians();
    CHECK(g.plane.sigma_mm == doctest::Approx(0.02).epsilon(0.15));
    CHECK(g.plane.share > 0.5);
    CHECK(g.plane.share < 0.65);
  }
  MESSAGE("worst tilt ", worst, " degrees, worst offset ", worst_offset, " mm, within two sigmas ", within,
          " of ", runs);
  CHECK(worst < 0.01);
  CHECK(worst_offset < 0.005);
  if (!sanitized) CHECK(within >= 0.85 * runs);
}

TEST_CASE("leveled heights are above the table, holes stay, and a band keeps the parts alone") {
  const StackStation s = make_stack_station(77);
  const GroundFound g = find_ground(s.map, s.pitch_mm);
  const Image<float> level = leveled(s.map, g.plane);
  const Image<uint8_t> parts = height_band(level, {1, 100}), table = height_band(level, {-0.2, 0.2});
  double part_count = 0, table_count = 0, holes = 0;
  for (int y = 0; y < level.height(); ++y)
    for (int x = 0; x < level.width(); ++x) {
      CHECK_FALSE((parts(x, y) && table(x, y)));
      holes += std::isnan(level(x, y)), part_count += parts(x, y) > 0, table_count += table(x, y) > 0;
      if (std::isnan(level(x, y))) CHECK_FALSE(parts(x, y));
    }
  const double all = level.width() * level.height();
  CHECK(holes / all > 0.08);
  CHECK((part_count + table_count + holes) / all > 0.999);
  CHECK(part_count / (part_count + table_count) == doctest::Approx(s.covered).epsilon(0.03));
  // The plane of one map serves a later one.
  CHECK_THROWS_AS(leveled(Image<float>(10, 10), g.plane), Error);
}

TEST_CASE("maps that hold no ground, and wrong calls") {
  Image<float> nothing(200, 100);
  for (int y = 0; y < 100; ++y) std::fill_n(nothing.row(y), 200, NAN);
  CHECK(find_ground(nothing, {1, 1}).reason.find("0 places") != std::string::npos);
  Random random(4);
  Image<float> chaos(200, 100);
  for (int y = 0; y < 100; ++y)
    for (int x = 0; x < 200; ++x)
      chaos(x, y) = static_cast<float>(x / 3 % 2 ? random.uniform(0, 1000) : random.uniform(0, 1000));
  for (int y = 0; y < 100; ++y)
    for (int x = 0; x < 200; x += 3) chaos(x, y) = chaos(x + (x < 199), y);
  const GroundFound g = find_ground(chaos, {1, 1});
  if (g.found) CHECK(g.plane.sigma_mm > 50);  // a cloud may be called a thick plane, but it says how thick
  CHECK_THROWS_AS(find_ground(chaos, {0, 1}), Error);
  CHECK_THROWS_AS(find_ground(chaos, {NAN, 1}), Error);
  Image<float> flat(50, 40);
  CHECK(find_ground(flat, {1, 1}).plane.tilt().degrees() < 1e-9);
  CHECK_FALSE(find_ground(flat, {1, 1}, Region::rectangle(Box{500, 500, 10, 10})).found);
  CHECK_THROWS_AS(height_band(flat, {5, 1}), Error);
}

TEST_CASE("stacked tiles that cover most of the table do not pass for it") {
  int right = 0;
  for (uint64_t seed = 1; seed <= 10; ++seed) {
    const StackStation s = make_stack_station(seed, {.covered = 0.65});
    const GroundFound g = find_ground(s.map, s.pitch_mm);
    right += g.found && std::abs(g.plane.offset_mm - s.offset_mm) < 0.05;
  }
  CHECK(right == 10);
}
