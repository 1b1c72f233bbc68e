#include <doctest/doctest.h>

#include "heron/locate/pattern.hpp"
#include "heron/locate/prepared_picture.hpp"
#include "heron/render/tray_station.hpp"

// Pictures that are hard in several ways at once. The seeds were not used for anything else.

using namespace heron;
using namespace heron::render;

namespace {

struct HardTray {
  Scene scene;
  std::vector<Pose2> leaves;
  double noise;
};

CameraModel straight() { return camera_above(600, {.fx = 2400, .fy = 2400}); }

/// Leaves in any light, under glare, blurred, noisy, each with a strip lying over it, among other tiles and
/// mirrored look-alikes.
HardTray hard_tray(uint64_t seed) {
  Random random(seed);
  TrayStation station = make_tray_station(seed, {.views = 1, .leaves = 4, .others = 6});
  HardTray hard{station.views[0].scene, {}, random.uniform(1, 4)};
  hard.scene.camera = straight();
  hard.scene.light = {random.uniform(0.4, 1.2), {random.uniform(-0.6, 0.6), random.uniform(-0.6, 0.6)}, 0.2};
  hard.scene.blur_px = random.uniform(0.6, 1.4);
  hard.scene.glares.push_back({{random.uniform(200, 1000), random.uniform(200, 800)}, 60, 0.15});
  for (const TrayTile& tile : station.views[0].tiles) {
    if (tile.kind != "leaf") continue;
    hard.leaves.push_back(tile.table_from_tile);
    const Pose2 strip =
        tile.table_from_tile * Pose2{random.uniform(-20, 20), 0, degrees(random.uniform(60, 120))};
    hard.scene.pieces.push_back({rectangle(60, random.uniform(2, 7)), strip, random.uniform(0.1, 0.9)});
  }
  // The first leaf becomes its mirror image: it must not be found.
  const Pose2 fake = hard.leaves[0];
  for (Piece& p : hard.scene.pieces)
    if (distance(p.world_from_piece.position(), fake.position()) < 1e-9) p.outline = mirrored(p.outline);
  hard.leaves.erase(hard.leaves.begin());
  return hard;
}

PatternTarget taught_leaf() {
  Scene scene;
  scene.camera = straight();
  scene.pieces = tile_pieces("leaf", {0, 0, 3_deg}, 0.62);
  scene.texture = 0.012;
  Random random(5150);
  return teach_pattern(expose(exact_picture(scene), {.sigma = 2}, random),
                       Region::rectangle(Point2{639.5, 511.5}, 208, 156, {}), {.name = "leaf"});
}

struct Count {
  int leaves = 0, found = 0, wrong = 0;
};

/// Finds leaves on hard trays of some seeds. Where the whole part may be inverted, every other picture's
/// brightness is turned round; per edge, a white sheet lies under half of every leaf.
Count found_on_hard_trays(uint64_t first_seed, uint64_t seeds, const FindOptions& options) {
  const PatternTarget leaf = taught_leaf();
  Count count;
  for (uint64_t seed = first_seed; seed < first_seed + seeds; ++seed) {
    HardTray tray = hard_tray(seed);
    std::vector<Piece>& pieces = tray.scene.pieces;
    if (options.inversion == Inversion::local)
      for (const Pose2& tile : tray.leaves)
        pieces.insert(pieces.begin(), {rectangle(30, 60, {15, 0}), {tile.x, tile.y, degrees(37)}, 0.95});
    Random random(seed + 1);
    Image<uint8_t> picture =
        expose(exact_picture(tray.scene), {.sigma = tray.noise, .electrons = 20000}, random);
    const bool turned = options.inversion == Inversion::whole && seed % 2;
    if (turned)
      for (int y = 0; y < picture.height(); ++y)
        for (int x = 0; x < picture.width(); ++x) picture(x, y) = static_cast<uint8_t>(255 - picture(x, y));
    const FindResult f = find(leaf, PreparedPicture(std::move(picture)), options);
    count.leaves += static_cast<int>(tray.leaves.size());
    for (const Detection& s : f.detections) {
      CHECK(s.inverted == turned);
      bool right = false;
      for (const Pose2& tile : tray.leaves) {
        const Point2 truth = tray.scene.camera.project({tile.x, tile.y, 0});
        right = right || (distance({s.x, s.y}, truth) < 0.3 &&
                          std::abs((s.angle + tile.angle - degrees(3)).wrapped().degrees()) < 0.3);
      }
      (right ? count.found : count.wrong) += 1;
    }
  }
  MESSAGE(count.found << " of " << count.leaves << " leaves found, " << count.wrong << " wrong");
  return count;
}

}  // namespace

TEST_CASE("hard trays: every leaf, no look-alike, and never an angle that is wrong" *
          doctest::test_suite("many pictures")) {
  const Count count = found_on_hard_trays(9001, 12, {.min_score = 55});
  CHECK(count.wrong == 0);
  CHECK(count.found >= 0.97 * count.leaves);
}

TEST_CASE("hard trays, inverted ones among them, at any scale: as surely as of one size, as taught" *
          doctest::test_suite("many pictures")) {
  const Count count = found_on_hard_trays(9201, 12, {.scale = {0.8, 1.2}, .inversion = Inversion::whole});
  CHECK(count.wrong == 0);
  CHECK(count.found >= 0.97 * count.leaves);
}

TEST_CASE("hard trays with white sheets under half of every leaf: found where each edge may rise or fall" *
          doctest::test_suite("many pictures")) {
  const Count count = found_on_hard_trays(9301, 8, {.scale = {0.9, 1.1}, .inversion = Inversion::local});
  CHECK(count.wrong == 0);
  CHECK(count.found >= 0.95 * count.leaves);
}

TEST_CASE("trays without the part give nothing, whatever else lies there") {
  const PatternTarget leaf = taught_leaf();
  for (uint64_t seed = 9101; seed <= 9110; ++seed) {
    TrayStation station = make_tray_station(seed, {.views = 1, .leaves = 0, .others = 14});
    station.views[0].scene.camera = straight();
    Random random(seed);
    const FindResult f =
        find(leaf, PreparedPicture(expose(exact_picture(station.views[0].scene), {.sigma = 3}, random)),
             {.scale = {0.8, 1.2}}, Explain::never);
    CHECK(f.detections.empty());
  }
}

TEST_CASE(
    "two parts that overlap are both found when enough of each is seen; a stricter limit names the overlap") {
  const PatternTarget leaf = taught_leaf();
  Scene scene;
  scene.camera = straight();
  scene.pieces = tile_pieces("leaf", {0, 0, 20_deg}, 0.6);
  const std::vector<Piece> upper = tile_pieces("leaf", {14, 22, -50_deg}, 0.7);
  scene.pieces.insert(scene.pieces.end(), upper.begin(), upper.end());
  Random random(1);
  const PreparedPicture prepared(expose(exact_picture(scene), {.sigma = 2}, random));
  CHECK(find(leaf, prepared, {.min_score = 50}).detections.size() == 2);
  const FindResult strict = find(leaf, prepared, {.min_score = 50, .min_visible = 0.98});
  CHECK(strict.detections.size() == 1);
  REQUIRE(!strict.misses.empty());
  CHECK(strict.misses[0].reasons[0].name == "visible");
}

TEST_CASE("a small part, and one with thin lines, are found as well") {
  for (const double radius : {4.0, 8.0}) {
    Scene scene;
    scene.camera = straight();
    const auto pieces = [&](const Pose2& pose) {
      return std::vector<Piece>{{kite(4 * radius, 2.6 * radius), pose, 0.7},
                                {rectangle(radius, 0.3 * radius, {0.3 * radius, 0}), pose, 0.2}};
    };
    scene.pieces = pieces({});
    Random random(2);
    const double size = 4 * (4 * radius + 6);
    const PatternTarget small = teach_pattern(expose(exact_picture(scene), {.sigma = 2}, random),
                                              Region::rectangle(Point2{655, 511.5}, size, size, {}));
    scene.pieces = pieces({60.2, -40.7, 123_deg});
    const std::vector<Piece> more = pieces({-90, 50, -20_deg});
    scene.pieces.insert(scene.pieces.end(), more.begin(), more.end());
    const FindResult f = find(small, PreparedPicture(expose(exact_picture(scene), {.sigma = 2}, random)), {});
    CHECK(f.detections.size() == 2);
    for (const Detection& s : f.detections) CHECK(s.score > 85);
  }
}

TEST_CASE("a part larger than the picture is not found and does no harm") {
  const PatternTarget leaf = taught_leaf();
  Image<uint8_t> small(90, 70);
  for (int y = 0; y < 70; ++y)
    for (int x = 0; x < 90; ++x) small(x, y) = static_cast<uint8_t>(x * 2);
  CHECK(find(leaf, PreparedPicture(std::move(small)), {.scale = {0.5, 2}}).detections.empty());
}
