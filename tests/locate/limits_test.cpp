#include <doctest/doctest.h>

#include <cmath>
#include <thread>

#include "heron/base/work.hpp"
#include "heron/locate/pattern.hpp"
#include "heron/locate/prepared_picture.hpp"
#include "heron/locate/study.hpp"
#include "heron/locate/teaching.hpp"
#include "heron/render/tray_station.hpp"

// What the limits promise, each by itself, against what the renderer knows.

using namespace heron;
using namespace heron::render;

namespace {

struct Tray {
  std::vector<Piece> pieces = {};
  int side = 420;
  double noise = 2, light = 1, gradient = 0, background = 0.25;
  uint64_t seed = 1;

  CameraModel camera() const {
    return camera_above(600, {.fx = 2400, .fy = 2400, .cx = 0.5 * (side - 1), .cy = 0.5 * (side - 1)});
  }
  Point2 pixel_of(Point2 table) const { return camera().project({table.x, table.y, 0}); }
  Image<uint8_t> take() const {
    Scene scene;
    scene.camera = camera();
    scene.width = scene.height = side;
    scene.background = background;
    scene.light = {light, {gradient, 0.5 * gradient}, 0};
    scene.pieces = pieces;
    Random random(seed);
    return expose(exact_picture(scene), {.sigma = noise}, random);
  }
};

std::vector<Piece> leaf_tile(const Pose2& pose, const std::vector<Piece>& more = {}) {
  std::vector<Piece> pieces = tile_pieces("leaf", pose, 0.62);
  pieces.insert(pieces.end(), more.begin(), more.end());
  return pieces;
}

const PatternTarget& taught_tile() {
  static const PatternTarget taught = [] {
    const Tray tray{.pieces = leaf_tile({}), .seed = 900};
    return teach_pattern(tray.take(), Region::rectangle(tray.pixel_of({}), 204, 152, {}), {.name = "leaf"});
  }();
  return taught;
}

FindResult looked(const Tray& tray, const FindOptions& options = {}, Explain explain = Explain::never) {
  return find(taught_tile(), PreparedPicture(tray.take()), options, explain);
}

}  // namespace

TEST_CASE("the score is the share of the taught edge length that is seen: what a cover hides, it loses") {
  for (const double from : {-24.0, -12.0, 0.0, 10.0}) {
    CAPTURE(from);
    const double width = 9, turn = 37;
    const Pose2 tile{1.5, -2, degrees(turn)};
    const Tray tray{.pieces = leaf_tile(tile, {{rectangle(width, 60, {from + width / 2, 0}), tile, 0.4}}),
                    .seed = 31};
    // Edges under the strip, by the tile's own geometry: 4 pixels a millimetre, y down.
    size_t hidden = 0;
    for (const TaughtEdge& e : taught_tile().edges())
      hidden += e.place.x > 4 * from && e.place.x < 4 * (from + width);
    const double left =
        100 - 100.0 * static_cast<double>(hidden) / static_cast<double>(taught_tile().edges().size());
    const FindResult f = looked(tray);
    REQUIRE(f.detections.size() == 1);
    CHECK(f.detections[0].score == doctest::Approx(left).epsilon(0.05));
    size_t unseen = 0;
    for (const EdgeMatch& e : f.detections[0].edges) unseen += e.weight <= 0;
    CHECK(std::abs(static_cast<double>(unseen) - static_cast<double>(hidden)) <
          0.05 * static_cast<double>(f.detections[0].edges.size()));
  }
}

TEST_CASE("light changes neither score nor place") {
  const Pose2 tile{2, 1, 15_deg};
  double first_x = 0;
  for (const auto& [light, gradient] :
       {std::pair{1.0, 0.0}, {0.5, 0.0}, {1.4, 0.0}, {0.9, 0.6}, {0.7, -0.6}}) {
    CAPTURE(light);
    CAPTURE(gradient);
    const Tray tray{.pieces = leaf_tile(tile), .noise = 1, .light = light, .gradient = gradient, .seed = 32};
    const FindResult f = looked(tray);
    REQUIRE(f.detections.size() == 1);
    CHECK(f.detections[0].score > 97);
    if (first_x == 0) first_x = f.detections[0].x;
    CHECK(std::abs(f.detections[0].x - first_x) < 0.02);
    CHECK(distance({f.detections[0].x, f.detections[0].y}, tray.pixel_of(tile.position())) < 0.02);
  }
}

TEST_CASE("a part's place does not depend on what lies elsewhere") {
  const Pose2 tile{-20, 15, 70_deg};
  const Tray alone{.pieces = leaf_tile(tile), .side = 640, .seed = 33};
  Tray among = alone;
  for (const char* kind : {"hexagon", "rosette", "kite"}) {
    const Pose2 there{among.pieces.size() * 4.0 - 10, -45,
                      degrees(static_cast<double>(among.pieces.size()) * 40)};
    for (const Piece& p : tile_pieces(kind, there, 0.6)) among.pieces.push_back(p);
  }
  for (const Piece& p : leaf_tile({45, 20, -30_deg})) among.pieces.push_back(p);
  const FindResult f = looked(alone), g = looked(among);
  REQUIRE(f.detections.size() == 1);
  REQUIRE(g.detections.size() == 2);
  const Detection& same =
      distance({g.detections[0].x, g.detections[0].y}, {f.detections[0].x, f.detections[0].y}) < 2
          ? g.detections[0]
          : g.detections[1];
  CHECK(std::abs(same.x - f.detections[0].x) < 0.002);
  CHECK(std::abs(same.y - f.detections[0].y) < 0.002);
  CHECK(std::abs((same.angle - f.detections[0].angle).degrees()) < 0.002);
}

TEST_CASE("parts that share their origin, far outside themselves, are found all the same") {
  // Leaves around a hub, as petals; one of them is covered a third.
  const Tray teach{.pieces = leaf_tile({}), .side = 700, .seed = 60};
  const Point2 hub_from_leaf{-160, 0};
  const PatternTarget petal = teach_pattern(teach.take(), Region::rectangle(teach.pixel_of({}), 204, 152, {}),
                                            {.origin = teach.pixel_of({}) + hub_from_leaf});
  Tray tray{.side = 700, .seed = 61};
  for (const double angle : {0.0, 90.0, 180.0, 270.0})
    for (const Piece& p : leaf_tile(
             {40 * std::cos(angle * 0.0174532925), 40 * std::sin(angle * 0.0174532925), degrees(angle)}))
      tray.pieces.push_back(p);
  tray.pieces.push_back({rectangle(14, 40, {-8, 0}), {0, 40, 90_deg}, 0.4});
  const FindResult f = find(petal, PreparedPicture(tray.take()), {});
  CHECK(f.detections.size() == 4);
  for (const Detection& s : f.detections) CHECK(distance({s.x, s.y}, tray.pixel_of({})) < 0.2);
}

TEST_CASE("local inversion sees a part before a background that changes") {
  // The tile is grey; left of it the tray is dark, right of it bright.
  const Pose2 tile{0, 0, 5_deg};
  Tray tray{.background = 0.25, .seed = 34};
  tray.pieces = {{rectangle(80, 140, {40, 0}), {}, 0.95}};
  for (const Piece& p : leaf_tile(tile)) tray.pieces.push_back(p);
  const FindResult taught = looked(tray, {.min_score = 40}),
                   each = looked(tray, {.inversion = Inversion::local});
  REQUIRE(each.detections.size() == 1);
  REQUIRE(taught.detections.size() == 1);
  CHECK(each.detections[0].score > 95);
  CHECK(taught.detections[0].score < each.detections[0].score - 10);
  CHECK(distance({each.detections[0].x, each.detections[0].y}, tray.pixel_of({})) < 0.05);
}

TEST_CASE("the share outside the picture is a limit of its own") {
  const double out_mm = 12;
  const Tray tray{.pieces = leaf_tile({52.5 - 23 + out_mm, 3, {}}), .seed = 35};
  const FindResult all = looked(tray);
  REQUIRE(all.detections.size() == 1);
  const FindResult strict = looked(tray, {.max_outside = 0.1});
  CHECK(strict.detections.empty());
  REQUIRE_FALSE(strict.misses.empty());
  REQUIRE(strict.misses[0].reasons.size() == 1);
  CHECK(strict.misses[0].reasons[0].name == "outside");
  CHECK(strict.misses[0].reasons[0].value > 0.15);
  CHECK(strict.misses[0].reasons[0].value < 0.4);
  CHECK(looked(tray, {.max_outside = strict.misses[0].reasons[0].value + 0.01}).detections.size() == 1);
}

TEST_CASE("sigmas grow with the noise and with what is hidden") {
  const Pose2 tile{1, 1, -60_deg};
  const auto sigma = [&](double noise, const std::vector<Piece>& over) {
    double sum = 0;
    for (uint64_t seed = 40; seed < 46; ++seed) {
      const FindResult f = looked({.pieces = leaf_tile(tile, over), .noise = noise, .seed = seed});
      REQUIRE(f.detections.size() == 1);
      sum += *f.detections[0].sigma.x / 6;
    }
    return sum;
  };
  const double quiet = sigma(1, {}), loud = sigma(4, {}),
               hidden = sigma(1, {{rectangle(18, 60, {-14, 0}), tile, 0.4}});
  // Teaching was done at noise 2.
  CHECK(loud / quiet == doctest::Approx(std::sqrt((16.0 + 4) / (1 + 4))).epsilon(0.25));
  CHECK(hidden > 1.05 * quiet);
}

TEST_CASE("one prepared picture serves several threads and targets") {
  const Tray tray{.pieces = leaf_tile({3, -2, 120_deg}), .seed = 50};
  const PreparedPicture prepared(tray.take());
  const FindResult once = find(taught_tile(), prepared, {});
  std::vector<FindResult> found(4);
  std::vector<std::thread> threads;
  for (FindResult& f : found) threads.emplace_back([&] { f = find(taught_tile(), prepared, {}); });
  for (std::thread& t : threads) t.join();
  for (const FindResult& f : found) {
    REQUIRE(f.detections.size() == 1);
    CHECK(f.detections[0].x == once.detections[0].x);
    CHECK(f.detections[0].angle == once.detections[0].angle);
  }
}

TEST_CASE("a picture with more places than a search can count is refused, with what to do") {
  const PreparedPicture prepared(Image<uint8_t>(530000, 200));
  CHECK_THROWS_WITH_AS(find(taught_tile(), prepared, {}, Explain::never),
                       doctest::Contains("give a smaller search region"), Error);
  const FindResult part =
      find(taught_tile(), prepared, {.region = Region::rectangle({1000, 100}, 500, 150, {})}, Explain::never);
  CHECK(part.detections.empty());
}

TEST_CASE("work tells how far it is") {
  Work work;
  looked({.pieces = leaf_tile({}), .seed = 51});
  const PreparedPicture prepared(Tray{.pieces = leaf_tile({}), .seed = 51}.take());
  find(taught_tile(), prepared, {}, Explain::never, &work);
  CHECK(work.planned() > 20);
  CHECK(work.done() == work.planned());
}

TEST_CASE("there are at most eight misses, each with a limit, a value and what is needed") {
  Tray tray{.side = 1000, .seed = 52};
  for (int i = 0; i < 12; ++i)
    for (const Piece& p : leaf_tile({-75.0 + 50 * (i % 4), -60.0 + 45 * (i / 4), degrees(30 * i)}))
      tray.pieces.push_back(p);
  const FindResult f = looked(tray, {.angle = {-10_deg, 10_deg}, .max_count = 1}, Explain::always);
  CHECK(f.detections.size() == 1);
  CHECK(f.misses.size() == 8);
  for (const Miss& m : f.misses) {
    REQUIRE_FALSE(m.reasons.empty());
    CHECK_FALSE(m.reasons[0].needed.empty());
    CHECK(m.score > 90);
    if (m.reasons[0].name == "angle") CHECK(m.reasons[0].sigma > 0);
  }
}

TEST_CASE("wrong calls are refused by name") {
  const PreparedPicture prepared(Tray{.pieces = leaf_tile({}), .seed = 53}.take());
  const auto refuses = [&](const FindOptions& options, const char* words) {
    CHECK_THROWS_WITH_AS(find(taught_tile(), prepared, options), doctest::Contains(words), Error);
  };
  refuses({.max_outside = -0.1}, "max outside");
  refuses({.max_outside = NAN}, "max outside");
  refuses({.min_visible = 1.01}, "min visible");
  refuses({.min_visible = NAN}, "min visible");
  refuses({.angle = {radians(NAN), 0_deg}}, "angle");
  refuses({.scale = {0.5, INFINITY}}, "scale");
  refuses({.min_contrast = NAN}, "contrast");
  const Image<uint8_t> picture = Tray{.pieces = leaf_tile({}), .seed = 53}.take();
  const Region region = Region::rectangle({100, 120, 220, 180});
  const auto refuses_to_teach = [&](const PatternSettings& settings, const char* words) {
    CHECK_THROWS_WITH_AS(teach_pattern(picture, region, settings), doctest::Contains(words), Error);
  };
  refuses_to_teach({.edge_threshold = NAN}, "edge threshold");
  refuses_to_teach({.detail = -1}, "detail");
  refuses_to_teach({.height_step_mm = -1}, "height step");
  refuses_to_teach({.height_step_mm = NAN}, "height step");
  const Image<uint8_t> other(10, 10);
  CHECK_THROWS_WITH_AS(teach_pattern(picture, region, {}, other.view()), doctest::Contains("differ in size"),
                       Error);
  CHECK_THROWS_AS(keep_stable_edges(taught_tile(), {}), Error);
  CHECK_THROWS_AS(keep_stable_edges(taught_tile(), {&prepared}, NAN), Error);
}

TEST_CASE("a study without parts, and one of an empty tray, say so") {
  const PreparedPicture empty(Tray{.seed = 54}.take());
  const std::vector<KnownPart> nothing, one{{210, 210}};
  const StudiedPicture none = study_picture(taught_tile(), empty, {}, {}, &nothing);
  CHECK(none.expected == 0);
  CHECK(none.found + none.missing + none.wrong == 0);
  CHECK_FALSE(none.margin);
  const StudiedPicture lost = study_picture(taught_tile(), empty, {}, {}, &one);
  CHECK(lost.missing == 1);
  const StudyAdvice advice = advise(taught_tile(), {}, {none, lost}, 420, 420);
  CHECK(advice.right == 0);
  CHECK(advice.options.min_score == FindOptions{}.min_score);
}

TEST_CASE("a study names the limits that turned a known part away, and counts only what they let through") {
  Tray tray{.pieces = leaf_tile({2, -3, 25_deg}), .seed = 55};
  tray.pieces.push_back({rectangle(8, 40), {2, -3, 25_deg}, 0.9});  // it cannot score 100
  const PreparedPicture prepared(tray.take());
  const Detection whole = find(taught_tile(), prepared, {}).detections.at(0);
  const std::vector<KnownPart> known{{whole.x, whole.y, whole.angle}};
  const auto turned_away = [&](const FindOptions& options) {
    const FindResult found = find(taught_tile(), prepared, options, Explain::never);
    const StudiedPicture p = study_picture(taught_tile(), prepared, options, found, &known);
    CHECK(p.missing == 1);
    CHECK(p.found + p.wrong == 0);
    return p.finds.at(0).reasons;
  };
  using Names = std::vector<std::string>;
  CHECK(turned_away({.angle = {40_deg, 90_deg}}) == Names{"angle"});
  CHECK(turned_away({.scale = {1.05, 1.1}}) == Names{"scale"});
  CHECK(turned_away({.region = Region::rectangle({0, 0, 90, 90})}) == Names{"region"});
  CHECK(turned_away({.min_contrast = 1.3 * whole.contrast}) == Names{"contrast"});
  CHECK(turned_away({.angle = {40_deg, 90_deg}, .min_contrast = 2 * whole.contrast}) ==
        Names{"contrast", "angle"});
  CHECK(turned_away({.min_score = 100}) == Names{"score"});
}

TEST_CASE("parts known by another point, another zero of the angle or the other sense are told as such") {
  const auto studied = [](Point2 at, Angle zero, bool other_sense, bool told_angle, double scatter) {
    Random random(9);
    std::vector<StudiedPicture> pictures(6);
    for (StudiedPicture& p : pictures) {
      p.known = true;
      for (int k = 0; k < 3; ++k) {
        StudiedFind f{
            300.0 + 320 * k, random.uniform(300, 700), degrees(random.uniform(-180, 180)), 1.1, 90, 50};
        f.within = true;
        KnownPart part;
        const Point2 place = Point2{f.x, f.y} + rotated(at, f.angle) * f.scale;
        part.x = place.x + scatter * random.uniform(-1, 1), part.y = place.y;
        if (told_angle) part.angle = ((other_sense ? -f.angle : f.angle) + zero).wrapped();
        p.finds.push_back(f), p.parts.push_back(part);
      }
    }
    return pictures;
  };
  for (const bool other_sense : {false, true})
    for (const double zero : {0.0, 90.0, 180.0}) {
      CAPTURE(zero);
      const auto offset =
          offset_of_known(taught_tile(), studied({40, -25}, degrees(zero), other_sense, true, 2));
      REQUIRE(offset);
      CHECK(distance(offset->place, {40, -25}) < 1.5);
      CHECK(std::abs((offset->turn - degrees(zero)).wrapped().degrees()) < 0.1);
      CHECK(offset->other_sense == other_sense);
    }
  REQUIRE(offset_of_known(taught_tile(), studied({40, -25}, {}, false, false, 2)));
  CHECK_FALSE(offset_of_known(taught_tile(), studied({40, -25}, {}, false, true, 60)));
  CHECK_FALSE(offset_of_known(taught_tile(), studied({900, 0}, {}, false, true, 0)));
  CHECK_FALSE(offset_of_known(taught_tile(), {}));
  // Where some finds are right, what is known means what was taught.
  auto mixed = studied({40, -25}, {}, false, true, 0);
  mixed[0].finds[0].right = true;
  CHECK_FALSE(offset_of_known(taught_tile(), mixed));
}

TEST_CASE("study proposes the ranges that the parts need") {
  std::vector<StudiedPicture> pictures;
  for (int i = 0; i < 9; ++i) {
    StudiedPicture p;
    p.known = true, p.expected = p.found = 1, p.noise_sigma = 2;
    // Angles around 175 degrees, over the seam.
    p.finds.push_back({200.0 + i, 150.0 + i, degrees(170.0 + i > 180 ? 170.0 + i - 360 : 170.0 + i),
                       0.95 + 0.01 * i, 80.0 + i, 40, true, true});
    p.finds.push_back({400, 300, degrees(20), 1, 60, 40, false, false});   // outside the angles
    p.finds.push_back({400, 100, degrees(172), 1, 50, 40, false, false});  // within them
    pictures.push_back(p);
  }
  const StudyAdvice a = advise(taught_tile(), {.scale = {0.5, 2}}, pictures, 1280, 1024);
  CHECK(a.separated);
  CHECK(*a.worst_right == 80);
  CHECK(*a.best_wrong == 50);
  CHECK(a.options.min_score == 65);
  for (const double inside : {170.0, 178.0, -179.0}) CHECK(contains_turned(a.options.angle, degrees(inside)));
  for (const double outside : {20.0, 120.0, -120.0})
    CHECK_FALSE(contains_turned(a.options.angle, degrees(outside)));
  CHECK(a.options.scale.min < 0.95);
  CHECK(a.options.scale.min > 0.9);
  CHECK(a.options.scale.max > 1.03);
  CHECK(a.options.scale.max < 1.08);
  CHECK(a.options.max_count == 1);
  REQUIRE(a.region);
  CHECK(a.region->x < 200);
  CHECK(a.region->x + a.region->width > 208);
  // Where something else scores higher than the worst part, that is told.
  pictures[0].finds[2].score = 84;
  const StudyAdvice none = advise(taught_tile(), {.scale = {0.5, 2}}, pictures, 1280, 1024);
  CHECK_FALSE(none.separated);
  // Origins may lie outside the picture, and the region holds them all the same.
  for (StudiedPicture& p : pictures) p.finds[0].x -= 300, p.finds[0].y += 1000;
  const StudyAdvice away = advise(taught_tile(), {.scale = {0.5, 2}}, pictures, 1280, 1024);
  REQUIRE(away.region);
  CHECK(away.region->x < -100);
  CHECK(away.region->x + away.region->width > -92);
  CHECK(away.region->y + away.region->height > 1158);
}

TEST_CASE("a part whose best pose lies outside a range is a miss that says so, however near") {
  const PreparedPicture prepared(Tray{.pieces = leaf_tile({0, 0, -30_deg}), .seed = 12}.take());
  const double there = find(taught_tile(), prepared, {}).detections.at(0).angle.degrees();
  for (const double off : {0.3, 0.01, 0.001}) {  // the sigma is some thousandths
    CAPTURE(off);
    const FindResult f = find(taught_tile(), prepared, {.angle = {-10_deg, degrees(there - off)}});
    CHECK(f.detections.empty());
    REQUIRE(f.misses.size() == 1);
    REQUIRE(f.misses[0].reasons.size() == 1);
    CHECK(f.misses[0].reasons[0].name == "angle");
    CHECK(f.misses[0].reasons[0].value == doctest::Approx(there).epsilon(0.001));
  }
  // Within three sigmas of the end it may as well lie beyond.
  const FindResult near = find(taught_tile(), prepared, {.angle = {-10_deg, degrees(there + 0.001)}});
  CHECK(near.detections.empty());
  CHECK(near.misses.at(0).reasons.at(0).needed.find("three sigma to spare") != std::string::npos);
  CHECK(find(taught_tile(), prepared, {.angle = {-10_deg, degrees(there + 0.1)}}).detections.size() == 1);
  CHECK(find(taught_tile(), prepared, {.scale = {1.02, 1.2}}).detections.empty());
  CHECK(find(taught_tile(), prepared, {.scale = {0.8, 0.98}}).detections.empty());
  // A range of no width fixes the angle.
  const FindResult fixed = find(taught_tile(), prepared, {.angle = {30_deg, 30_deg}});
  REQUIRE(fixed.detections.size() == 1);
  CHECK(fixed.detections[0].angle.degrees() == doctest::Approx(30));
  CHECK(fixed.detections[0].range_end.empty());
}

TEST_CASE("a stop returns what is sure, marked; no stop changes nothing") {
  const PreparedPicture prepared(Tray{.pieces = leaf_tile({1, 0, 5_deg}), .seed = 13}.take());
  Work stopped, running;
  stopped.stop();
  const FindResult none = find(taught_tile(), prepared, {}, Explain::always, &stopped);
  CHECK_FALSE(none.complete);
  CHECK(none.detections.empty());
  const FindResult all = find(taught_tile(), prepared, {}, Explain::always, &running);
  CHECK(all.complete);
  CHECK(all.detections.at(0).x == find(taught_tile(), prepared, {}).detections.at(0).x);
}

TEST_CASE("quick or thorough, the part is found; more thoroughly none is lost") {
  TrayStation station = make_tray_station(611, {.views = 3, .leaves = 4, .others = 5, .hard = true});
  Scene taught = station.teach.scene;
  Random random(5);
  const Pose2 tile = station.teach.tiles[0].table_from_tile;
  const PatternTarget target =
      teach_pattern(expose(exact_picture(taught), {.sigma = 2}, random),
                    Region::rectangle(station.camera.project({tile.x, tile.y, 0}), 212, 164, {}));
  for (const TrayView& view : station.views) {
    const PreparedPicture prepared(expose(exact_picture(view.scene), {.sigma = 2}, random));
    size_t before = 0;
    for (const Thoroughness each : {Thoroughness::quick, Thoroughness::normal, Thoroughness::exhaustive}) {
      const size_t found = find(target, prepared, {.thoroughness = each}, Explain::never).detections.size();
      CHECK(found >= before);
      CHECK(found <= 4);
      before = found;
    }
    CHECK(before == 4);
  }
}
