// Regions of a color: where they are, how large, and what keeps others out.
#include <doctest/doctest.h>

#include "heron/locate/target.hpp"
#include "heron/render/scene.hpp"
#include "heron/render/studio_views.hpp"
#include "sanitized.hpp"

using namespace heron;

namespace {

using Settings = std::map<std::string, SettingValue>;

constexpr render::Tint red{0.80, 0.12, 0.14}, orange{0.85, 0.42, 0.10}, green{0.15, 0.55, 0.25};

/// Shapes in colors on a grey table, at a pixel a millimetre; y up from the picture's middle.
struct Table {
  std::vector<render::Piece> pieces = {};
  double light = 1, sigma = 2, blur = 0.6, texture = 0;
  Point2 gradient{};

  void add(render::Outline outline, Point2 at, const render::Tint& tint, Angle turn = {}) {
    pieces.push_back({std::move(outline), {at.x, at.y, turn}, 0.8, 0, tint});
  }
  Image<Rgb> picture(uint64_t seed) const {
    render::Scene scene;
    scene.width = 320, scene.height = 240;
    scene.camera = render::straight_camera(scene.width, scene.height, 1);
    scene.background = 0.4, scene.pieces = pieces;
    scene.light.level = light, scene.light.gradient = gradient;
    scene.blur_px = blur, scene.texture = texture, scene.texture_seed = seed;
    render::Random random(seed);
    return render::expose(render::exact_channels(scene), {.sigma = sigma}, random);
  }
};

Point2 pixel_of(Point2 mm) { return {159.5 + mm.x, 119.5 - mm.y}; }

Target taught_color(const render::Tint& tint, const Settings& settings = {}, bool counter = false) {
  Table table;
  table.add(render::disc(25), {-60, 0}, tint);
  table.add(render::disc(25), {60, 0}, orange);
  const Image<Rgb> color = table.picture(1);
  const Image<uint8_t> grey = grey_levels(color);
  TeachingPicture from{
      .grey = grey, .color = color, .region = Region::rectangle(pixel_of({-60, 0}), 24, 24, {})};
  if (counter) from.counter_samples = {Region::rectangle(pixel_of({60, 0}), 24, 24, {})};
  return teach_target("color", from, {.name = "part", .settings = settings});
}

FindResult found_on(const Target& target, const Table& table, uint64_t seed = 2) {
  return find(target, PreparedPicture(table.picture(seed)));
}

}  // namespace

TEST_CASE("red wraps round the hue circle and is kept apart from orange in every space") {
  Table table;
  table.add(render::rectangle(50, 30), {-50, 20}, red, 20_deg);
  table.add(render::rectangle(50, 30), {50, 20}, orange, 20_deg);
  table.add(render::rectangle(50, 30), {0, -50}, green);
  for (const char* space : {"best", "rgb", "hsv", "hsl", "ycbcr", "lab"}) {
    CAPTURE(space);
    const Target target = taught_color(red, {{"space", std::string(space)}}, true);
    const FindResult found = found_on(target, table);
    REQUIRE(found.detections.size() == 1);
    CHECK(distance({found.detections[0].x, found.detections[0].y}, pixel_of({-50, 20})) < 0.1);
  }
}

TEST_CASE("area, axes and angle of a region are those of its shape") {
  const Target target = taught_color(green);
  for (const double turn : {0.0, 35.0, -70.0}) {
    CAPTURE(turn);
    Table table{.sigma = 0.5};
    table.add(render::rectangle(90, 40), {10.4, -7.7}, green, degrees(turn));
    const FindResult found = found_on(target, table);
    REQUIRE(found.detections.size() == 1);
    const Detection& s = found.detections[0];
    CHECK(distance({s.x, s.y}, pixel_of({10.4, -7.7})) < 0.05);
    CHECK(*s.measurement("area") == doctest::Approx(3600).epsilon(0.005));
    CHECK(s.contrast > 40);
    CHECK(s.has_angle);
    CHECK(std::abs(std::remainder((s.angle - degrees(-turn)).degrees(), 180.0)) < 0.3);
    // Of the ellipse with the same moments: side times 2 over the root of 3.
    CHECK(*s.measurement("length") == doctest::Approx(90 * 2 / std::sqrt(3.0)).epsilon(0.01));
    CHECK(*s.measurement("width") == doctest::Approx(40 * 2 / std::sqrt(3.0)).epsilon(0.01));
    REQUIRE(s.lengths.size() == 2);
    CHECK(distance(s.lengths[0].from, s.lengths[0].to) == doctest::Approx(90).epsilon(0.03));
  }
  Table disc;
  disc.add(render::disc(30), {3.3, 4.4}, green);
  CHECK_FALSE(found_on(target, disc).detections[0].has_angle);
}

TEST_CASE("a taught color holds from six tenths of the light to a tenth more, and across a gradient") {
  const Target target = taught_color(green);
  Table table;
  table.add(render::disc(30), {-70, 30}, green),
      table.add(render::rectangle(60, 50), {60, -30}, green, 30_deg);
  for (const double light : {0.6, 0.8, 1.0, 1.1}) {
    CAPTURE(light);
    table.light = light;
    CHECK(found_on(target, table).detections.size() == 2);
  }
  table.light = 0.85, table.gradient = {0.3, -0.2};
  const FindResult uneven = found_on(target, table);
  REQUIRE(uneven.detections.size() == 2);
  for (const Detection& s : uneven.detections) {
    const double off =
        std::min(distance({s.x, s.y}, pixel_of({-70, 30})), distance({s.x, s.y}, pixel_of({60, -30})));
    CHECK(off < 0.15);
  }
}

TEST_CASE("holes are filled or counted against, specks and bridges are taken away") {
  Table table;
  table.add(render::disc(40), {-50, 0}, green), table.add(render::disc(15), {-50, 0}, orange);
  const auto area_with = [&](const Settings& settings) {
    const FindResult found = found_on(taught_color(green, settings), table);
    REQUIRE(found.detections.size() == 1);
    return *found.detections[0].measurement("area");
  };
  const double pi = std::numbers::pi;
  CHECK(area_with({{"fill_holes", true}}) == doctest::Approx(pi * 1600).epsilon(0.005));
  CHECK(area_with({{"fill_holes", false}}) == doctest::Approx(pi * (1600 - 225)).epsilon(0.01));
  // Two discs joined by a bridge of seven pixels are one; opened by four, they are two.
  Table joined;
  joined.add(render::disc(25), {-50, 0}, green), joined.add(render::disc(25), {50, 0}, green);
  joined.add(render::rectangle(100, 7), {0, 0}, green);
  CHECK(found_on(taught_color(green), joined).detections.size() == 1);
  CHECK(found_on(taught_color(green, {{"opened", 4}}), joined).detections.size() == 2);
  // Specks are none of the regions.
  render::Random random(8);
  Table specks;
  specks.add(render::disc(30), {0, 0}, green);
  for (int i = 0; i < 60; ++i)
    specks.add(render::disc(random.uniform(0.5, 2)), {random.uniform(-150, 150), random.uniform(45, 110)},
               green);
  CHECK(found_on(taught_color(green), specks).detections.size() == 1);
}

TEST_CASE("largest first, limits on area, and the count") {
  Table table;
  table.add(render::disc(35), {-80, 0}, green), table.add(render::disc(25), {0, 0}, green);
  table.add(render::disc(18), {70, 0}, green);
  const FindResult all = found_on(taught_color(green), table);
  REQUIRE(all.detections.size() == 3);
  CHECK(*all.detections[0].measurement("area") > *all.detections[1].measurement("area"));
  CHECK(*all.detections[1].measurement("area") > *all.detections[2].measurement("area"));
  const Target middle = taught_color(green, {{"min_area", 1200.0}, {"max_area", 2500.0}});
  const FindResult one = found_on(middle, table);
  REQUIRE(one.detections.size() == 1);
  CHECK(std::abs(one.detections[0].x - 159.5) < 0.1);
  REQUIRE(one.misses.size() == 2);
  for (const Miss& m : one.misses) CHECK(m.reasons[0].name == "area");
  FindOptions largest = taught_color(green).options();
  largest.max_count = 1;
  const FindResult first = find(taught_color(green), PreparedPicture(table.picture(3)), largest);
  REQUIRE(first.detections.size() == 1);
  CHECK(std::abs(first.detections[0].x - 79.5) < 0.1);
  CHECK(first.misses[0].reasons[0].name == "count");
}

TEST_CASE("the centroid's sigma is of the size of its error, with noise and on uneven ground" *
          doctest::test_suite("many pictures")) {
  const Target target = taught_color(green);
  Table table;
  table.add(render::hexagon(30), {12.3, -8.6}, green, 11_deg);
  constexpr int runs = sanitized ? 4 : 120;
  for (const double texture : {0.0, 0.03}) {
    CAPTURE(texture);
    table.texture = texture;
    int within = 0;
    double squares = 0, sigma = 0;
    for (int i = 0; i < runs; ++i) {
      const FindResult found = found_on(target, table, 100 + static_cast<uint64_t>(i));
      REQUIRE(found.detections.size() == 1);
      const double off = found.detections[0].x - pixel_of({12.3, -8.6}).x;
      within += std::abs(off) < 2 * *found.detections[0].sigma.x;
      squares += off * off / runs, sigma += *found.detections[0].sigma.x / runs;
    }
    const double rms = std::sqrt(squares);
    MESSAGE("texture " << texture << ": rms " << rms << ", told " << sigma << ", within two sigma "
                       << 100.0 * within / runs);
    if (texture == 0) CHECK(rms < 0.02);
    if (sanitized) continue;
    CHECK(within > 0.9 * runs);
    CHECK(sigma < 1.6 * rms);
  }
}

TEST_CASE("blur does not pull the centroid of a shape with thin tips") {
  const Target target = taught_color(green);
  Table table;
  const render::Outline crescent = render::crescent(30, 22);
  table.add(crescent, {-14.3, 7.2}, green, 37_deg);
  Point2 centroid;
  double twice = 0;
  for (const auto& loop : crescent.loops)
    for (size_t i = 0; i < loop.size(); ++i) {
      const Point2 a = loop[i], b = loop[(i + 1) % loop.size()];
      twice += cross(a, b), centroid += (a + b) * (cross(a, b) / 3);
    }
  const Point2 truth = pixel_of(Pose2{-14.3, 7.2, 37_deg} * (centroid / twice));
  table.sigma = 0;
  for (const double blur : {0.3, 1.0, 1.6, 2.2}) {
    CAPTURE(blur);
    table.blur = blur;
    const FindResult found = found_on(target, table);
    REQUIRE(found.detections.size() == 1);
    MESSAGE("blur " << blur << ": off by "
                    << distance({found.detections[0].x, found.detections[0].y}, truth));
    CHECK(distance({found.detections[0].x, found.detections[0].y}, truth) < 0.03);
    CHECK(std::abs(*found.detections[0].measurement("area") - twice / 2) < 0.01 * twice);
  }
}

TEST_CASE("regions brighter or darker than the rest are found by brightness, in pictures of grey or color") {
  struct Blobs {
    double table, blob;
    Image<uint8_t> picture(double light, uint64_t seed) const {
      render::Scene scene;
      scene.width = 320, scene.height = 240;
      scene.camera = render::straight_camera(scene.width, scene.height, 1);
      scene.background = table, scene.light.level = light, scene.blur_px = 0.8;
      for (const auto& [outline, at, turn] :
           {std::tuple{render::disc(22), Point2{-80, 30}, 0.0}, {render::rectangle(70, 30), {50, -20}, 35.0}})
        scene.pieces.push_back({outline, {at.x, at.y, degrees(turn)}, blob});
      render::Random random(seed);
      return render::expose(render::exact_picture(scene), {.sigma = 2}, random);
    }
  };
  for (const Blobs blobs : {Blobs{0.15, 0.7}, {0.7, 0.06}}) {
    CAPTURE(blobs.blob);
    const Image<uint8_t> grey = blobs.picture(1, 1);
    const Region sample = Region::rectangle(pixel_of({-80, 30}), 20, 20, {});
    const Target target = teach_target("color", {.grey = grey, .region = sample}, {.name = "spot"});
    const auto range = target.as<ColorTarget>()->range();
    CHECK(range.space == ColorSpace::grey);
    // Open where nothing else lies.
    CHECK((blobs.blob > blobs.table ? range.channels[0].max == 255 : range.channels[0].min == 0));
    for (const double light : {0.6, 1.0, 1.1}) {
      CAPTURE(light);
      const FindResult found = find(target, PreparedPicture(blobs.picture(light, 2)));
      REQUIRE(found.detections.size() == 2);
      CHECK(found.misses.empty());
      const Detection &bar = found.detections[0], &spot = found.detections[1];
      CHECK(distance({bar.x, bar.y}, pixel_of({50, -20})) < 0.06);
      CHECK(distance({spot.x, spot.y}, pixel_of({-80, 30})) < 0.06);
      CHECK(std::abs(std::remainder(bar.angle.degrees() + 35, 180.0)) < 0.2);
      CHECK(*bar.measurement("area") == doctest::Approx(2100).epsilon(0.01));
    }
    // The same of a color picture, where brightness is asked for.
    Table table{.pieces = {}};
    constexpr render::Tint yellow{0.9, 0.8, 0.3}, blue{0.05, 0.08, 0.4};
    table.add(render::disc(25), {-60, 0}, blobs.blob > blobs.table ? yellow : blue);
    const Image<Rgb> color = table.picture(3);
    const Target of_color = teach_target("color",
                                         {.grey = grey_levels(color),
                                          .color = color,
                                          .region = Region::rectangle(pixel_of({-60, 0}), 24, 24, {})},
                                         {.name = "disc", .settings = {{"space", std::string("grey")}}});
    CHECK(found_on(of_color, table).detections.size() == 1);
    CHECK_THROWS_AS(find(taught_color(red), PreparedPicture(Image<uint8_t>(grey))), Error);
  }
  // What is as bright as the table is not told by its brightness.
  CHECK_THROWS_AS(taught_color(orange, {{"space", std::string("grey")}}), Error);
  // A sample that its counter-samples equal says nothing.
  const Image<uint8_t> grey = Blobs{0.4, 0.4}.picture(1, 1);
  CHECK_THROWS_AS(teach_target("color",
                               {.grey = grey,
                                .region = Region::rectangle(pixel_of({-80, 30}), 20, 20, {}),
                                .counter_samples = {Region::rectangle(pixel_of({50, -20}), 20, 20, {})}},
                               {.name = "same"}),
                  Error);
}

TEST_CASE("a region that the picture's edge cuts off is a miss, whose middle is not the part's") {
  const Target target = taught_color(green);
  Table table;
  table.add(render::disc(30), {-140, 0}, green);
  table.add(render::disc(30), {40, 10}, green);
  const FindResult found = found_on(target, table);
  REQUIRE(found.detections.size() == 1);
  CHECK(distance({found.detections[0].x, found.detections[0].y}, pixel_of({40, 10})) < 0.1);
  REQUIRE_FALSE(found.misses.empty());
  CHECK(found.misses[0].reasons.at(0).name == "outside");
  const Target cut = taught_color(green, {{"whole", false}});
  CHECK(found_on(cut, table).detections.size() == 2);
}

TEST_CASE("gaps so narrow that blur fills them do not move a region") {
  // Before, the comb lay up to a pixel off with a sigma of 0.03.
  std::vector<Point2> comb{{-80, 40}, {80, 40}, {80, 20}};
  for (double x = 70; x >= -70; x -= 20)
    for (const auto& [beside, y] : {std::pair{5, 20}, {5, -35}, {-5, -35}, {-5, 20}})
      comb.push_back({x + beside, static_cast<double>(y)});
  comb.push_back({-80, 20});
  // 160 x 20 about y 30, and eight teeth of 10 x 55 about y -7.5.
  const Point2 centroid{0, (3200 * 30 + 4400 * -7.5) / 7600};
  const Target target = [&] {
    Table table;
    table.add({{comb}}, {}, green);
    const Image<Rgb> color = table.picture(1);
    return teach_target("color",
                        {.grey = grey_levels(color),
                         .color = color,
                         .region = Region::rectangle(pixel_of({0, 30}), 30, 10, {})},
                        {.name = "comb"});
  }();
  for (const double turn : {0.0, 17.0, 45.0}) {
    CAPTURE(turn);
    Table table{.pieces = {}, .blur = 1.3, .gradient = {0.2, 0}};
    const Point2 at{3.3, -2.2};
    table.add({{comb}}, at, green, degrees(turn));
    const FindResult found = found_on(target, table);
    REQUIRE(found.detections.size() == 1);
    const Detection& s = found.detections[0];
    const double off = distance({s.x, s.y}, pixel_of(at + rotated(centroid, degrees(turn))));
    CHECK(off < 0.08);
    CHECK(off < 4 * std::hypot(*s.sigma.x, *s.sigma.y));
  }
}

TEST_CASE("a range that is swapped, or no brightness at all, is refused at teaching") {
  for (const std::vector<double>& ends : {std::vector<double>{80, 20}, {300, 400}, {-9, -1}}) {
    CAPTURE(ends[0]);
    CHECK_THROWS_AS(taught_color(red, {{"space", std::string("grey")}, {"first", ends}}), Error);
  }
  CHECK(taught_color(red, {{"space", std::string("grey")}, {"first", std::vector<double>{20, 80}}})
            .as<ColorTarget>()
            ->range()
            .channels[0]
            .max == 80);
}
