#include "locate/pattern/coarse/coarse_hits.hpp"

#include <doctest/doctest.h>

#include <array>
#include <cstdlib>
#include <numbers>

#include "heron/render/random.hpp"
#include "locate/pattern/coarse/marked_places.hpp"

using namespace heron;

namespace {

/// Two scales of a full turn in 36 steps each, in a window of 100 x 60 pixels.
struct Grid {
  static constexpr int turn = 36;
  PoseGrid poses;
  Grid() {
    poses.angle_step = 2 * std::numbers::pi / turn;
    for (const double scale : {1.0, 1.1}) {
      poses.turns.push_back({static_cast<int>(poses.poses.size()), turn, scale, 0, poses.angle_step});
      for (int i = 0; i < turn; ++i) poses.poses.push_back({radians(i * poses.angle_step), scale});
    }
  }
  /// What is left of the hits, best first, with echoes of `echo` left out within five pixels.
  std::vector<CoarseHit> left_of(const HitLists& hits, double echo = 0) const {
    CoarseHits all(hits, poses, std::vector<Point2>(poses.poses.size(), Point2{0, 0}),
                   {{0, 0, 100, 60}, 0, 200.0, 5.0, echo});
    return all.next(1000);
  }
};

PlacedHit hit(int x, int y, int pose, int sum) { return {x, y, pose, sum}; }

}  // namespace

TEST_CASE("coarse hits come best first, without those of one scale next to better ones in place and angle") {
  const Grid grid;
  const auto survives = [&](const PlacedHit& other) {
    const auto left = grid.left_of({{hit(50, 30, 0, 180)}, {other}});
    REQUIRE_FALSE(left.empty());
    CHECK(left[0].likeness == doctest::Approx(0.9));
    return left.size() == 2;
  };
  CHECK_FALSE(survives(hit(50, 30, 1, 170)));
  CHECK_FALSE(survives(hit(52, 28, 2, 170)));
  CHECK_FALSE(survives(hit(48, 32, Grid::turn - 2, 170)));  // across 0 degrees
  CHECK(survives(hit(51, 31, Grid::turn + 1, 170)));        // the next scale
  CHECK(survives(hit(53, 30, 0, 170)));
  CHECK(survives(hit(50, 27, 0, 170)));
  CHECK(survives(hit(50, 33, 0, 170)));
  CHECK(survives(hit(50, 30, 3, 170)));
  CHECK(survives(hit(50, 30, Grid::turn - 3, 170)));
  CHECK(survives(hit(0, 59, 0, 170)));

  // What lies next to one that was left out itself stays.
  CHECK(grid.left_of({{hit(50, 30, 0, 180), hit(52, 30, 0, 170), hit(54, 30, 0, 160)}}).size() == 2);
  // DuplicateFilter of a much better one on its spot, at any angle, and only there.
  CHECK(grid.left_of({{hit(50, 30, 0, 180), hit(50, 30, 18, 120)}}, 0.7).size() == 1);
  CHECK(grid.left_of({{hit(50, 30, 0, 180), hit(50, 30, 18, 130)}}, 0.7).size() == 2);
  CHECK(grid.left_of({{hit(50, 30, 0, 180), hit(56, 30, 18, 120)}}, 0.7).size() == 2);
  CHECK(grid.left_of({}).empty());
}

TEST_CASE("where more is asked for, hits with less are left out from then on, and no others") {
  const Grid grid;
  CoarseHits hits({{hit(50, 30, 0, 180), hit(50, 30, 9, 150), hit(56, 30, 18, 150), hit(62, 30, 18, 150),
                    hit(1, 30, 18, 150), hit(50, 36, 27, 170)}},
                  grid.poses, std::vector<Point2>(grid.poses.poses.size(), Point2{0, 0}),
                  {{0, 0, 100, 60}, 0, 200.0, 5.0, 0.5});
  CHECK(hits.next(1).size() == 1);
  hits.ask_for(0.8, {50, 30}, 10);
  hits.ask_for(1, {-20, -500}, 15);  // where no hits are
  const std::vector<CoarseHit> left = hits.next(100);
  REQUIRE(left.size() == 3);
  CHECK(left[0].likeness == doctest::Approx(0.85));
  CHECK(left[1].place.x + left[2].place.x == doctest::Approx(63));
  CHECK(hits.next(100).empty());
}

TEST_CASE("of too many hits the best are kept, of equal ones the first, in their order") {
  HitLists lists{
      {hit(1, 0, 0, 90), hit(2, 0, 0, 100), hit(3, 0, 0, 90)}, {}, {hit(4, 0, 1, 90), hit(5, 0, 1, 80)}};
  CHECK(keep_best(lists, 5, 5) == 5);
  CHECK(keep_best(lists, 5, 3) == 3);
  REQUIRE(lists[0].size() == 3);
  CHECK(lists[0][0].x == 1);
  CHECK(lists[0][2].x == 3);
  CHECK(lists[2].empty());
}

TEST_CASE(
    "places are marked in their pose as far as the reach goes, over words, rows and the window's ends") {
  render::Random random(7);
  constexpr int width = 130, height = 37, poses = 3, reach = 2;
  MarkedPlaces places(poses, width, height, reach);
  std::vector<std::array<int, 3>> marks{{0, 0, 0}, {2, width - 1, height - 1}, {1, 63, 8}, {1, 64, 7}};
  for (int i = 0; i < 20; ++i)
    marks.push_back({static_cast<int>(random.uniform(0, poses)), static_cast<int>(random.uniform(0, width)),
                     static_cast<int>(random.uniform(0, height))});
  for (const auto& [pose, x, y] : marks) places.mark_around(static_cast<size_t>(pose), x, y);
  for (int pose = 0; pose < poses; ++pose)
    for (int y = 0; y < height; ++y)
      for (int x = 0; x < width; ++x) {
        const bool near = std::any_of(marks.begin(), marks.end(), [&](const auto& m) {
          return m[0] == pose && std::abs(m[1] - x) <= reach && std::abs(m[2] - y) <= reach;
        });
        REQUIRE(places.at(static_cast<size_t>(pose), x, y) == near);
      }
}
