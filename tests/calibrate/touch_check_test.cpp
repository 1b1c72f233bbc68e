// Cells with known faults, and what the check finds.
#include "heron/calibrate/touch_check.hpp"

#include <doctest/doctest.h>

#include "heron/render/random.hpp"
#include "support.hpp"

using namespace heron;
using support::contains;
using support::error_of;

namespace {

/// What is wrong with a cell.
struct Wrong {
  Point2 shift = {};
  Angle turn = {};
  double scale = 0;
  Point2 hand = {};
  double bend = 0;  ///< of the mapping: millimetres at 200 mm from the middle, by the square of x
};

std::vector<TouchedPart> touched(render::Random& random, int count, const Wrong& wrong, double sigma,
                                 bool turned = true) {
  std::vector<TouchedPart> parts;
  for (int i = 0; i < count; ++i) {
    const Point2 truth{random.uniform(300, 700), random.uniform(-250, 150)};
    const Angle angle = degrees(turned ? random.uniform(-180, 180) : 30 + random.uniform(-4, 4));
    const Point2 from = truth - Point2{500, -50};
    // Sent is wrong in the opposite sense of what touching finds.
    Point2 error = wrong.shift + Point2{-from.y, from.x} * wrong.turn.radians() + from * wrong.scale +
                   rotated(wrong.hand, angle) + Point2{0, wrong.bend * from.x * from.x / 40000};
    const Point2 sent = truth - error - Point2{random.normal(), random.normal()} * (0.6 * sigma);
    parts.push_back({{sent.x, sent.y, angle},
                     truth + Point2{random.normal(), random.normal()} * (0.8 * sigma),
                     0.6 * sigma});
  }
  return parts;
}

constexpr double touch = 0.05;  // sigma of the truth is 0.8 of the whole

}  // namespace

TEST_CASE("each fault is measured within its sigma, and none is found that is not there") {
  render::Random random(5);
  constexpr double sigma = touch / 0.8;
  const Wrong wrong{.shift = {0.4, -0.3}, .turn = 0.1_deg, .scale = 0.002, .hand = {0.5, 0.2}};
  int shift_within = 0, turn_within = 0, scale_within = 0, hand_within = 0, told_falsely = 0, rest_told = 0;
  constexpr int trials = 500;
  for (int i = 0; i < trials; ++i) {
    const TouchCheck check = check_touches(touched(random, 12, wrong, sigma), touch);
    CHECK(check.wrong.empty());
    REQUIRE(check.hand);
    CHECK(check.hand->seen);
    CHECK(check.scale.seen);
    CHECK(check.turn.seen);
    const Point2 from = check.middle - Point2{500, -50};  // the shift there holds some of turn and scale
    const Point2 shift = wrong.shift + Point2{-from.y, from.x} * wrong.turn.radians() + from * wrong.scale;
    shift_within += std::abs(check.shift.value.x - shift.x) < 2 * check.shift.sigma;
    turn_within += std::abs(check.turn.value - 0.1) < 2 * check.turn.sigma;
    scale_within += std::abs(check.scale.value - 0.002) < 2 * check.scale.sigma;
    hand_within += std::abs(check.hand->value.x - 0.5) < 2 * check.hand->sigma;
    rest_told += check.rest_seen;
    const TouchCheck good = check_touches(touched(random, 12, {}, sigma), touch);
    told_falsely += good.shift.seen + good.turn.seen + good.scale.seen + good.hand->seen;
    CHECK(good.left_mm < 2 * good.expected_mm);
  }
  for (const int within : {shift_within, turn_within, scale_within, hand_within}) {
    CHECK(within > 0.92 * trials);
    CHECK(within < 0.99 * trials);
  }
  CHECK(told_falsely < 0.02 * 4 * trials);
  CHECK(rest_told < 0.01 * trials);
}

TEST_CASE("hands that are turned alike hide in the shift, and that is said") {
  render::Random random(6);
  const Wrong wrong{.shift = {0.2, 0}, .hand = {0.5, 0}};
  const TouchCheck alike = check_touches(touched(random, 12, wrong, 0.05, false), touch);
  CHECK_FALSE(alike.hand);
  CHECK(alike.shift.value.x == doctest::Approx(0.2 + 0.5 * cos(30_deg)).epsilon(0.1));
  // Five parts are too few for it as well.
  CHECK_FALSE(check_touches(touched(random, 5, wrong, 0.05), touch).hand);
}

TEST_CASE("a part that was touched wrongly is named, and the others are judged without it") {
  render::Random random(7);
  int named = 0, falsely = 0;
  for (int i = 0; i < 200; ++i) {
    auto parts = touched(random, 10, {.shift = {0.4, -0.3}}, 0.06);
    falsely += !check_touches(parts, touch).wrong.empty();
    parts[3].touched.x += i % 2 == 0 ? 1.5 : 500;  // a slip, and another part altogether
    const TouchCheck check = check_touches(parts, touch);
    named += check.wrong == std::vector<size_t>{3};
    if (check.wrong.empty()) continue;
    CHECK(check.rest[3].x > 1);
    CHECK(check.shift.value.x == doctest::Approx(0.4).epsilon(0.5));
  }
  CHECK(named > 190);
  CHECK(falsely <= 2);
}

TEST_CASE("what no cause explains is left and told: a bent mapping") {
  render::Random random(8);
  const TouchCheck check = check_touches(touched(random, 20, {.bend = 1.5}, 0.05), touch);
  CHECK(check.rest_seen);
  CHECK(check.left_mm > 3 * check.expected_mm);
  CHECK(check.wrong.size() <= 5);
}

TEST_CASE("what tells too little is refused") {
  render::Random random(9);
  auto parts = touched(random, 4, {}, 0.05);
  CHECK(contains(error_of([&] { check_touches(parts, touch); }), "five are the least"));
  parts = touched(random, 8, {}, 0.05);
  CHECK(contains(error_of([&] { check_touches(parts, 0); }), "above 0"));
  parts[2].touched.y = NAN;
  CHECK(contains(error_of([&] { check_touches(parts, touch); }), "no number"));
  parts[2].touched.y = parts[2].sent.y;
  auto metres = parts, swapped = parts;
  for (TouchedPart& p : metres) p.touched = p.touched / 1000;
  for (TouchedPart& p : swapped) p.touched = {p.touched.y, p.touched.x};
  CHECK(contains(error_of([&] { check_touches(metres, touch); }), "another unit, x and y swapped"));
  CHECK(contains(error_of([&] { check_touches(swapped, touch); }), "another unit, x and y swapped"));
  for (TouchedPart& p : parts) p = parts[0];
  CHECK(contains(error_of([&] { check_touches(parts, touch); }), "far apart"));
}
