#include <doctest/doctest.h>
#include <tbb/global_control.h>
#include <tbb/task_arena.h>

#include "heron/locate/pattern.hpp"
#include "heron/locate/prepared_picture.hpp"
#include "heron/render/tray_station.hpp"
#include "locate/pattern/coarse/sum_rows.hpp"

using namespace heron;
using namespace heron::render;

namespace {

CameraModel small_camera(int size) {
  return camera_above(600, {.fx = 2400, .fy = 2400, .cx = 0.5 * (size - 1), .cy = 0.5 * (size - 1)});
}

struct Shot {
  std::vector<Piece> pieces = {};
  int size = 420;
  double noise = 2, light = 1, blur = 0.8;
  uint64_t seed = 1;

  Image<uint8_t> take() const {
    Scene scene;
    scene.camera = small_camera(size);
    scene.width = scene.height = size;
    scene.texture = 0.012;
    scene.texture_seed = seed;
    scene.light = {light, {0.1, -0.1}, 0.1};
    scene.blur_px = blur;
    scene.pieces = pieces;
    Random random(seed);
    return expose(exact_picture(scene), {.sigma = noise, .electrons = 20000}, random);
  }
  Point2 pixel_of(const Pose2& tile) const { return small_camera(size).project({tile.x, tile.y, 0}); }
};

std::vector<Piece> leaf_at(const Pose2& pose, double scale = 1, bool mirror = false) {
  std::vector<Piece> pieces = tile_pieces("leaf", pose, 0.62);
  for (Piece& p : pieces) {
    p.outline = scaled(p.outline, scale);
    if (mirror) p.outline = mirrored(p.outline);
  }
  return pieces;
}

void add(std::vector<Piece>& pieces, const std::vector<Piece>& more) {
  pieces.insert(pieces.end(), more.begin(), more.end());
}

/// Taught upright at the middle of a picture; the origin is the tile's middle.
const PatternTarget& leaf_target() {
  static const PatternTarget target = [] {
    const Shot shot{.pieces = leaf_at({}), .seed = 77};
    const Point2 middle = shot.pixel_of({});
    return teach_pattern(shot.take(), Region::rectangle(middle, 204, 152, {}), {.name = "leaf"});
  }();
  return target;
}

FindResult find_in(const Image<uint8_t>& picture, const FindOptions& options = {},
                   Explain explain = Explain::always) {
  return find(leaf_target(), PreparedPicture(Image<uint8_t>(picture)), options, explain);
}

/// Table angles grow counter-clockwise as seen, picture angles clockwise.
Angle picture_angle(const Pose2& tile) { return (-tile.angle).wrapped(); }

const MissReason* limit_of(const FindResult& result, const std::string& name) {
  for (const Miss& m : result.misses)
    for (const MissReason& l : m.reasons)
      if (l.name == name) return &l;
  return nullptr;
}

}  // namespace

TEST_CASE("the summing kernel gives the hits of its plain twin") {
  Random random(3);
  for (const int width : {5, 31, 64, 100, 203}) {
    Image<uint8_t> map(width + 20, 13);
    for (int y = 0; y < 12; ++y)
      for (int x = 0; x < width + 20; ++x) map(x, y) = static_cast<uint8_t>(random.whole(0, 4));
    std::vector<const uint8_t*> features;
    for (int k = 0; k < 37; ++k) features.push_back(map.row(random.whole(0, 3)) + random.whole(0, 19));
    std::vector<const uint8_t*> others(features.rbegin(), features.rend());
    const int ends[] = {4, 5, 9, 18, 30, 37};
    const std::array<SumCheck, sum_checks> checks{{{9, 14}, {18, 30}, {37, 80}}};
    const auto told = [](const PlacedHit& hit) {
      return std::array<int, 4>{hit.y, hit.x, static_cast<int>(hit.pose), static_cast<int>(hit.sum)};
    };
    for (const SumFeatures& summed :
         {SumFeatures{features.data()}, SumFeatures{features.data(), others.data(), ends}}) {
      std::vector<PlacedHit> fast, plain;
      sum_rows(summed, checks, {map.stride(), width, 9, 100, 7}, fast);
      sum_rows_plain(summed, checks, {map.stride(), width, 9, 100, 7}, plain);
      REQUIRE(fast.size() == plain.size());
      CHECK(fast.size() > 0);
      for (std::vector<PlacedHit>* hits : {&fast, &plain})
        std::sort(hits->begin(), hits->end(),
                  [&](const PlacedHit& a, const PlacedHit& b) { return told(a) < told(b); });
      for (size_t i = 0; i < fast.size(); ++i) CHECK(told(fast[i]) == told(plain[i]));
    }
  }
}

TEST_CASE("five leaves among other tiles: all found, nothing else, each within 0.05 px and 0.05 degrees") {
  for (const uint64_t seed : {501, 502, 503, 504}) {
    TrayStation station = make_tray_station(seed, {.views = 1, .leaves = 5, .others = 6});
    TrayView& view = station.views[0];
    view.scene.camera = camera_above(600, {.fx = 2400, .fy = 2400});
    Random random(seed);
    const FindResult result = find(
        leaf_target(),
        PreparedPicture(expose(exact_picture(view.scene), {.sigma = 2, .electrons = 20000}, random)), {});
    REQUIRE(result.detections.size() == 5);
    for (const TrayTile& tile : view.tiles) {
      if (tile.kind != "leaf") continue;
      const Point2 truth = view.scene.camera.project({tile.table_from_tile.x, tile.table_from_tile.y, 0});
      const auto nearest = std::min_element(
          result.detections.begin(), result.detections.end(), [&](const Detection& a, const Detection& b) {
            return distance({a.x, a.y}, truth) < distance({b.x, b.y}, truth);
          });
      CAPTURE(seed);
      CAPTURE(nearest->x);
      CAPTURE(nearest->y);
      CAPTURE(nearest->score);
      CHECK(distance({nearest->x, nearest->y}, truth) < 0.05);
      CHECK(std::abs((nearest->angle - picture_angle(tile.table_from_tile)).wrapped().degrees()) < 0.05);
      CHECK(nearest->score > 95);
    }
  }
}

TEST_CASE("five leaves of any scale on one thread, two and eight: the same bits") {
  const TrayStation station = make_tray_station(505, {.views = 1, .leaves = 5, .others = 6});
  Random random(505);
  const Image<uint8_t> picture =
      expose(exact_picture(station.views[0].scene), {.sigma = 2, .electrons = 20000}, random);
  const auto found_on = [&](size_t threads) {
    const tbb::global_control limit(tbb::global_control::max_allowed_parallelism, threads);
    return find(leaf_target(), PreparedPicture(Image<uint8_t>(picture)), {.scale = {0.8, 1.2}},
                Explain::never);
  };
  const FindResult alone = found_on(1);
  REQUIRE(alone.detections.size() == 5);
  for (const size_t threads : {2, 8, 2, 8, 2, 8}) {
    const FindResult found = found_on(threads);
    REQUIRE(found.detections.size() == 5);
    for (size_t i = 0; i < 5; ++i) {
      const Detection &a = alone.detections[i], &b = found.detections[i];
      CHECK(a.x == b.x);
      CHECK(a.angle == b.angle);
      CHECK(a.scale == b.scale);
      CHECK(a.score == b.score);
      CHECK(*a.sigma.y == *b.sigma.y);
    }
    CHECK(found.misses.size() == alone.misses.size());
  }
}

TEST_CASE("a part of which little is seen is found among two dozen whole ones as it is alone") {
  const CameraModel camera = camera_above(600, {.fx = 2400, .fy = 2400});
  const Point2 middle = camera.project({0, 0, 0});
  for (const uint64_t seed : {521, 522, 523}) {
    Random random(seed);
    Scene alone;
    alone.camera = camera;
    const Pose2 covered{0, 0, radians(random.uniform(0, 6.28))};
    alone.pieces = tile_pieces("leaf", covered, 0.62);
    alone.pieces.push_back({rectangle(20, 60), covered, 0.4});
    Scene crowd = alone;
    for (int row = -2; row <= 2; ++row)
      for (int column = -2; column <= 2; ++column) {
        if (row == 0 && column == 0) continue;
        const Pose2 there{62.0 * column, 52.0 * row, radians(random.uniform(0, 6.28))};
        for (const Piece& piece : tile_pieces("leaf", there, 0.62)) crowd.pieces.push_back(piece);
      }
    const auto covered_in = [&](const Scene& scene, size_t parts) {
      Random noise(seed);
      const FindResult result = find_in(expose(exact_picture(scene), {.sigma = 3}, noise), {.min_score = 40});
      CHECK(result.detections.size() == parts);
      for (const Detection& s : result.detections)
        if (distance({s.x, s.y}, middle) < 3) return s;
      return Detection{};
    };
    const Detection a = covered_in(alone, 1), b = covered_in(crowd, 25);
    CHECK(a.score > 45);
    CHECK(b.score == doctest::Approx(a.score).epsilon(0.1));
    CHECK(distance({a.x, a.y}, {b.x, b.y}) < 0.05);
  }
}

TEST_CASE("found in the dark and in bright light; the score does not follow the brightness") {
  for (const double light : {0.3, 0.5, 1.0, 1.3}) {
    CAPTURE(light);
    const Pose2 tile{3.3, -4.1, 70_deg};
    const FindResult f = find_in(Shot{.pieces = leaf_at(tile), .light = light, .seed = 5}.take());
    REQUIRE(f.detections.size() == 1);
    CHECK(f.detections[0].score > 93);
  }
}

TEST_CASE("a covered part's score falls as far as it is covered, and it is still in place") {
  double before = 101;
  for (const double covered : {0.0, 0.15, 0.3}) {
    const Pose2 tile{-2, 1, -35_deg};
    Shot shot{.pieces = leaf_at(tile), .seed = 8};
    if (covered > 0)
      shot.pieces.push_back({rectangle(46 * covered + 2, 40, {-23 + 23 * covered - 1, 0}), tile, 0.35});
    const FindResult f = find_in(shot.take(), {.min_score = 45});
    REQUIRE(f.detections.size() == 1);
    const Detection& s = f.detections[0];
    CHECK(distance({s.x, s.y}, shot.pixel_of(tile)) < 0.1);
    CHECK(s.score < before);
    CHECK(s.score > 100 * (1 - covered) - 12);
    before = s.score;
    const auto unseen =
        std::count_if(s.edges.begin(), s.edges.end(), [](const EdgeMatch& e) { return e.weight <= 0; });
    CHECK(static_cast<double>(unseen) / static_cast<double>(s.edges.size()) < covered + 0.1);
  }
}

TEST_CASE("a part that reaches out of the picture is found where it is") {
  const Shot shot{.pieces = leaf_at({38, 0, 15_deg}), .seed = 9};  // a quarter of it lies outside
  const FindResult f = find_in(shot.take(), {.min_score = 50});
  REQUIRE(f.detections.size() == 1);
  CHECK(distance({f.detections[0].x, f.detections[0].y}, shot.pixel_of({38, 0, {}})) < 0.1);
}

TEST_CASE("any scale within the range, with its value") {
  for (const double scale : {0.83, 1.0, 1.17}) {
    const Pose2 tile{2, 3, 100_deg};
    const Shot shot{.pieces = leaf_at(tile, scale), .seed = 12};
    const FindResult f = find_in(shot.take(), {.scale = {0.8, 1.2}});
    REQUIRE(f.detections.size() == 1);
    CHECK(f.detections[0].scale == doctest::Approx(scale).epsilon(0.001));
    CHECK(distance({f.detections[0].x, f.detections[0].y}, shot.pixel_of(tile)) < 0.05);
  }
}

TEST_CASE("the mirrored part and the empty tray are not found") {
  CHECK(find_in(Shot{.pieces = leaf_at({}, 1, true), .seed = 13}.take()).detections.empty());
  const FindResult empty = find_in(Shot{.seed = 14}.take());
  CHECK(empty.detections.empty());
  for (const Miss& m : empty.misses) CHECK(m.score < 30);
}

TEST_CASE("ranges are strict, and the miss names the limit; setting what it says finds the part" *
          doctest::test_suite("many pictures")) {
  const Pose2 tile{1, 2, -50_deg};
  const Image<uint8_t> turned = Shot{.pieces = leaf_at(tile), .seed = 15}.take();
  SUBCASE("angle") {
    const FindResult f = find_in(turned, {.angle = {-30_deg, 30_deg}});
    CHECK(f.detections.empty());
    const MissReason* l = limit_of(f, "angle");
    REQUIRE(l);
    CHECK(l->value == doctest::Approx(50).epsilon(0.001));
    CHECK(l->needed == "-30..30");
    CHECK(find_in(turned, {.angle = {-30_deg, degrees(l->value + 1)}}).detections.size() == 1);
  }
  SUBCASE("scale") {
    const Image<uint8_t> larger = Shot{.pieces = leaf_at(tile, 1.12), .seed = 15}.take();
    const FindResult f = find_in(larger);
    CHECK(f.detections.empty());
    const MissReason* l = limit_of(f, "scale");
    REQUIRE(l);
    CHECK(l->value == doctest::Approx(1.12).epsilon(0.005));
    CHECK(find_in(larger, {.scale = {1, l->value + 0.01}}).detections.size() == 1);
  }
  SUBCASE("score") {
    Shot shot{.pieces = leaf_at(tile), .seed = 16};
    shot.pieces.push_back({rectangle(18, 40, {-16, 0}), tile, 0.35});
    const FindResult f = find_in(shot.take(), {.min_score = 80});
    CHECK(f.detections.empty());
    const MissReason* l = limit_of(f, "score");
    REQUIRE(l);
    CHECK(find_in(shot.take(), {.min_score = l->value - 2}).detections.size() == 1);
  }
  SUBCASE("contrast") {
    // From a limit that half of the edges keep to one that none does.
    for (const double light : {0.3, 0.9}) {
      const Image<uint8_t> dim = Shot{.pieces = leaf_at(tile), .light = light, .seed = 17}.take();
      const double half = find_in(dim).detections.at(0).contrast;
      for (const double least : {1.1 * half, 1.3 * half, 2.5 * half}) {
        CAPTURE(least);
        const FindResult f = find_in(dim, {.min_contrast = least});
        CHECK(f.detections.empty());
        CHECK_FALSE(limit_of(f, "score"));
        const MissReason* l = limit_of(f, "contrast");
        REQUIRE(l);
        const FindResult cured = find_in(dim, {.min_contrast = l->value});
        REQUIRE(cured.detections.size() == 1);
        CHECK(cured.detections[0].score == doctest::Approx(75).epsilon(0.04));  // halfway from 50 to 100
      }
    }
  }
  SUBCASE("score, where weak edges are not the reason") {
    Shot shot{.pieces = leaf_at(tile), .noise = 5, .seed = 16};
    shot.pieces.push_back({rectangle(22, 40, {-14, 0}), tile, 0.35});
    const double score = find_in(shot.take()).detections.at(0).score;
    for (const double contrast : {8.0, 20.0}) {
      const FindResult f = find_in(shot.take(), {.min_score = score + 2, .min_contrast = contrast});
      CHECK(f.detections.empty());
      CHECK(limit_of(f, "score"));
      CHECK_FALSE(limit_of(f, "contrast"));
    }
  }
  SUBCASE("score and contrast") {
    Shot shot{.pieces = leaf_at(tile), .seed = 16};
    shot.pieces.push_back({rectangle(18, 40, {-16, 0}), tile, 0.35});
    const double half = find_in(shot.take()).detections.at(0).contrast;
    const FindResult f = find_in(shot.take(), {.min_score = 90, .min_contrast = 2 * half});
    CHECK(f.detections.empty());
    const MissReason *score = limit_of(f, "score"), *contrast = limit_of(f, "contrast");
    REQUIRE(score);
    REQUIRE(contrast);
    CHECK(find_in(shot.take(), {.min_score = score->value - 2, .min_contrast = contrast->value})
              .detections.size() == 1);
  }
  SUBCASE("count") {
    Shot shot{.pieces = leaf_at({-25, -25, 10_deg}), .size = 640, .seed = 18};
    add(shot.pieces, leaf_at({25, 25, 80_deg}));
    const FindResult f = find_in(shot.take(), {.max_count = 1});
    CHECK(f.detections.size() == 1);
    const MissReason* l = limit_of(f, "count");
    REQUIRE(l);
    CHECK(l->needed == "at most 1");
  }
  SUBCASE("region") {
    const FindOptions elsewhere{.region = Region::rectangle({0, 0, 150, 150})};
    const FindResult f = find_in(turned, elsewhere);
    CHECK(f.detections.empty());
    CHECK(limit_of(f, "region"));
    const FindOptions here{.region = Region::rectangle({150, 150, 150, 150})};
    CHECK(find_in(turned, here).detections.size() == 1);
    FindOptions cut = here;
    cut.region.subtract(Region::rectangle({190, 180, 60, 60}));
    const FindResult g = find_in(turned, cut);
    CHECK(g.detections.empty());
    CHECK(limit_of(g, "region"));
  }
}

TEST_CASE("a part with its brightness turned round is found when that is allowed, and named when not") {
  const Pose2 tile{1, 2, -50_deg};
  Image<uint8_t> dark = Shot{.pieces = leaf_at(tile), .seed = 31}.take();
  const Image<uint8_t> bright = dark;
  for (int y = 0; y < dark.height(); ++y)
    for (int x = 0; x < dark.width(); ++x) dark(x, y) = static_cast<uint8_t>(255 - dark(x, y));
  for (const Inversion inversion : {Inversion::whole, Inversion::local}) {
    CAPTURE(static_cast<int>(inversion));
    const FindResult f = find_in(dark, {.inversion = inversion});
    REQUIRE(f.detections.size() == 1);
    CHECK(f.detections[0].score > 93);
    CHECK(distance({f.detections[0].x, f.detections[0].y}, Shot{}.pixel_of(tile)) < 0.05);
    if (inversion != Inversion::local) CHECK(f.detections[0].inverted);
    const FindResult g = find_in(bright, {.inversion = inversion});
    CHECK(g.detections.size() == 1);
    for (const Detection& s : g.detections) CHECK_FALSE(s.inverted);
  }
  const FindResult f = find_in(dark);
  CHECK(f.detections.empty());
  const MissReason* l = limit_of(f, "inversion");
  REQUIRE(l);
  CHECK(l->needed == "as taught");
}

TEST_CASE("a pose near the end of a range is flagged") {
  const Image<uint8_t> picture = Shot{.pieces = leaf_at({0, 0, -30_deg}), .seed = 19}.take();
  const Detection there = find_in(picture).detections.at(0);
  const FindResult f = find_in(picture, {.angle = {degrees(-10), there.angle + *there.sigma.angle * 4.5}});
  REQUIRE(f.detections.size() == 1);
  CHECK(f.detections[0].range_end == std::vector<std::string>{"angle"});
}

TEST_CASE("the same bits whatever the thread count") {
  const Image<uint8_t> picture = Shot{.pieces = leaf_at({2, 1, 44_deg}), .seed = 20}.take();
  FindResult one, two;
  tbb::task_arena(1).execute([&] { one = find_in(picture, {.scale = {0.9, 1.1}}); });
  tbb::task_arena(2).execute([&] { two = find_in(picture, {.scale = {0.9, 1.1}}); });
  REQUIRE(one.detections.size() == 1);
  REQUIRE(two.detections.size() == 1);
  CHECK(one.detections[0].x == two.detections[0].x);
  CHECK(one.detections[0].angle == two.detections[0].angle);
  CHECK(one.detections[0].score == two.detections[0].score);
}

TEST_CASE("reported sigmas are of the size of the errors" * doctest::test_suite("many pictures")) {
  double x = 0, angle = 0, x_claimed = 0, angle_claimed = 0;
  Random random(6);
  const int runs = 60;
  for (int i = 0; i < runs; ++i) {
    const Pose2 tile{random.uniform(-4, 4), random.uniform(-4, 4), degrees(random.uniform(-180, 180))};
    const Shot shot{.pieces = leaf_at(tile), .size = 320, .seed = 1000 + static_cast<uint64_t>(i)};
    const FindResult f = find_in(shot.take());
    REQUIRE(f.detections.size() == 1);
    const Detection& s = f.detections[0];
    x += std::pow(s.x - shot.pixel_of(tile).x, 2), x_claimed += *s.sigma.x * *s.sigma.x;
    angle += std::pow((s.angle - picture_angle(tile)).wrapped().degrees(), 2),
        angle_claimed += std::pow(s.sigma.angle->degrees(), 2);
  }
  MESSAGE("error rms x " << std::sqrt(x / runs) << " px, angle " << std::sqrt(angle / runs)
                         << " deg; claimed " << std::sqrt(x_claimed / runs) << ", "
                         << std::sqrt(angle_claimed / runs));
  CHECK(std::sqrt(x / x_claimed) < 2);
  CHECK(std::sqrt(x / x_claimed) > 0.4);
  CHECK(std::sqrt(angle / angle_claimed) < 2);
  CHECK(std::sqrt(angle / angle_claimed) > 0.4);
}

TEST_CASE("the origin is the region's centre unless given, and may lie outside") {
  const Image<uint8_t> picture = Shot{.pieces = leaf_at({}), .seed = 77}.take();
  const Region region = Region::rectangle({100, 120, 220, 180});
  const PatternTarget centred = teach_pattern(picture, region);
  CHECK(centred.origin() + Point2{100, 120} == Point2{210, 210});
  const PatternTarget given = teach_pattern(picture, region, {.origin = Point2{20, 30}});
  const FindResult f = find(given, PreparedPicture(Image<uint8_t>(picture)), {});
  REQUIRE(f.detections.size() == 1);
  CHECK(f.detections[0].x == doctest::Approx(20).epsilon(0.001));
  CHECK(f.detections[0].y == doctest::Approx(30).epsilon(0.001));
}

TEST_CASE("what lies under the mask is never looked at") {
  const Image<uint8_t> picture = Shot{.pieces = leaf_at({}), .seed = 77}.take();
  Region region = Region::rectangle({100, 120, 220, 180});
  region.subtract(Region::ellipse({210, 210}, 40, 30));
  const PatternTarget target = teach_pattern(picture, region);
  Image<uint8_t> scribbled = picture;
  for (int y = 195; y < 225; ++y)
    for (int x = 190; x < 230; ++x) scribbled(x, y) = static_cast<uint8_t>((x * 37 + y * 91) & 255);
  const PatternTarget same = teach_pattern(scribbled, region);
  REQUIRE(target.edges().size() == same.edges().size());
  for (size_t i = 0; i < target.edges().size(); ++i) CHECK(target.edges()[i].place == same.edges()[i].place);
}

TEST_CASE("a round part is found with angle 0") {
  const Shot shot{.pieces = {{disc(18), {3, 4, {}}, 0.7}}, .seed = 21};
  const PatternTarget round = teach_pattern(Shot{.pieces = {{disc(18), {}, 0.7}}, .seed = 22}.take(),
                                            Region::rectangle(Point2{209.5, 209.5}, 190, 190, {}));
  CHECK(round.symmetry_order() == 0);
  const FindResult f = find(round, PreparedPicture(shot.take()), {});
  REQUIRE(f.detections.size() == 1);
  CHECK(f.detections[0].angle.degrees() == 0);
  CHECK(distance({f.detections[0].x, f.detections[0].y}, shot.pixel_of({3, 4, {}})) < 0.05);
}

TEST_CASE("what cannot be taught is refused with the reason") {
  const Image<uint8_t> picture = Shot{.pieces = leaf_at({}), .seed = 77}.take();
  CHECK_THROWS_WITH_AS(teach_pattern(picture, Region()), doctest::Contains("region is empty"), Error);
  CHECK_THROWS_WITH_AS(teach_pattern(picture, Region::rectangle({300, 300, 200, 100})),
                       doctest::Contains("must lie inside"), Error);
  CHECK_THROWS_WITH_AS(teach_pattern(picture, Region::rectangle({5, 5, 60, 60})),
                       doctest::Contains("nothing to hold on to here"), Error);
  const Image<uint8_t> stripes = Shot{.pieces = {{rectangle(20, 300), {}, 0.8}}, .seed = 23}.take();
  CHECK_THROWS_WITH_AS(teach_pattern(stripes, Region::rectangle({100, 150, 220, 120})),
                       doctest::Contains("slide along 90 degrees"), Error);
  CHECK_THROWS_AS(teach_pattern(picture, Region::rectangle({100, 120, 220, 180}), {.edge_threshold = -1}),
                  Error);
  CHECK_THROWS_AS(teach_pattern(picture, Region::rectangle({100, 120, 220, 180}), {.origin = Point2{NAN, 0}}),
                  Error);
}

TEST_CASE("limits that contradict themselves are refused") {
  const PreparedPicture prepared(Shot{.seed = 24}.take());
  const auto refuses = [&](const FindOptions& options, const char* part) {
    CHECK_THROWS_WITH_AS(find(leaf_target(), prepared, options), doctest::Contains(part), Error);
  };
  refuses({.angle = {30_deg, -30_deg}}, "swapped");
  refuses({.scale = {1.2, 0.8}}, "swapped");
  refuses({.scale = {0, 1}}, "0.1..10");
  refuses({.min_score = 101}, "min score");
  refuses({.min_score = NAN}, "min score");
  refuses({.min_contrast = 0}, "min contrast");
  refuses({.max_count = 0}, "count");
  refuses({.min_visible = 1.5}, "visible");
}

TEST_CASE("tiny, flat and noisy pictures hold nothing and do no harm") {
  CHECK_THROWS_AS(PreparedPicture(Image<uint8_t>()), Error);
  for (const auto& [w, h] : {std::pair{1, 1}, {1, 300}, {300, 1}, {16, 16}, {50, 40}})
    CHECK(find(leaf_target(), PreparedPicture(Image<uint8_t>(w, h)), {}).detections.empty());
  Random random(30);
  Image<uint8_t> noise(500, 400), checks(500, 400), white(500, 400);
  for (int y = 0; y < 400; ++y)
    for (int x = 0; x < 500; ++x)
      noise(x, y) = static_cast<uint8_t>(random.whole(0, 255)),
               checks(x, y) = ((x / 5 + y / 5) & 1) ? 255 : 0, white(x, y) = 255;
  for (const Image<uint8_t>* picture : {&noise, &checks, &white})
    CHECK(find_in(*picture, {.scale = {0.8, 1.2}}).detections.empty());
}
