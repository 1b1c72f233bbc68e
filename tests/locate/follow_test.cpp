#include <doctest/doctest.h>

#include "heron/locate/follow.hpp"
#include "heron/render/random.hpp"
#include "support.hpp"

using namespace heron;
using support::contains;
using support::error_of;

namespace {

Detection at(Point2 p, const char* target = "tile") {
  return {.target = target, .x = p.x, .y = p.y, .sigma = {0.05, 0.05, {}, 0}};
}

}  // namespace

TEST_CASE("things keep their identity while they cross, come and go, and their speed is known") {
  render::Random random(4);
  Follower follower({.reach_px = 40, .lost_after_s = 0.35});
  // Two cross at the middle, a third comes at the fifth picture and the second is hidden for two.
  const auto first = [](double t) { return Point2{100 + 300 * t, 200 + 40 * t}; };
  const auto second = [](double t) { return Point2{700 - 300 * t, 200 + 60 * t}; };
  const auto third = [](double t) { return Point2{50, 900 - 200 * t}; };
  for (int i = 0; i < 20; ++i) {
    const double t = 0.1 * i + 0.01 * std::sin(7.0 * i);
    std::vector<Detection> seen;
    std::vector<int> expected;
    const auto see = [&](Point2 p, int identity) {
      seen.push_back(at(p + Point2{0.05 * random.normal(), 0.05 * random.normal()}));
      expected.push_back(identity);
    };
    if (i >= 5) see(third(t), 3);
    if (i != 8 && i != 9) see(second(t), 2);
    see(first(t), 1);
    if (i == 0) std::swap(seen[0], seen[1]), std::swap(expected[0], expected[1]);
    std::vector<UserPoint> world;
    for (const Detection& s : seen) world.push_back({s.x * 0.25, -s.y * 0.25});
    const auto who = follower.follow(seen, world, t);
    REQUIRE(who.size() == seen.size());
    for (size_t k = 0; k < who.size(); ++k) {
      CAPTURE(i);
      CHECK(who[k].identity == expected[k]);
      if (i < 12) continue;
      REQUIRE(who[k].velocity);
      const Point2 v = expected[k] == 1   ? Point2{300, 40}
                       : expected[k] == 2 ? Point2{-300, 60}
                                          : Point2{0, -200};
      CHECK(std::abs(who[k].velocity->x - v.x) < 4 * *who[k].velocity->sigma_x);
      CHECK(std::abs(who[k].velocity->y - v.y) < 4 * *who[k].velocity->sigma_y);
      CHECK(*who[k].velocity->sigma_x < 1);
      CHECK(who[k].velocity_mm->x == doctest::Approx(0.25 * who[k].velocity->x));
      CHECK(who[k].velocity_mm->y == doctest::Approx(-0.25 * who[k].velocity->y));
      CHECK(*who[k].velocity_mm->sigma_x == doctest::Approx(0.25 * *who[k].velocity->sigma_x).epsilon(0.5));
    }
  }
  // Gone for longer than that: the identity is not given again.
  CHECK(follower.follow({}, {}, 3).empty());
  CHECK(follower.lost() == std::vector<int>{1, 2, 3});
  CHECK(follower.follow({at(first(3))}, {}, 3.1).at(0).identity == 4);
}

TEST_CASE("targets are kept apart, and wrong times are refused") {
  Follower follower;
  follower.follow({at({100, 100}, "tile")}, {}, 0);
  CHECK(follower.follow({at({101, 100}, "mark")}, {}, 1).at(0).identity == 2);
  CHECK(contains(error_of([&] { follower.follow({}, {}, 0.5); }), "their times must grow"));
  CHECK(contains(error_of([&] { follower.follow({}, {}, std::nan("")); }), "must grow"));
  CHECK(contains(error_of([&] { follower.follow({at({1, 1})}, {{0, 0}, {1, 1}}, 2); }), "2 places"));
  CHECK_THROWS_AS(Follower({.reach_px = 0}), Error);
  CHECK_THROWS_AS(Follower({.lost_after_s = -1}), Error);
}
