// Edges, corners, circles and stripes in the studio's hard scenes, whose truth the renderer knows; what a
// stop and an empty scene bring.
#include <doctest/doctest.h>

#include "heron/base/work.hpp"
#include "heron/locate/target.hpp"
#include "heron/render/studio_views.hpp"
#include "sanitized.hpp"
#include "support.hpp"

using namespace heron;
using support::contains;
using support::error_of;

namespace {

using Settings = std::map<std::string, SettingValue>;
using Numbers = std::vector<double>;

Picture picture_for(const render::StudioView& view, uint64_t seed) {
  render::Random random(seed);
  return render::picture_of(view, random);
}

const Point2 plate_middle{639.5, 511.5};
const Numbers plate_left{419.5, 541.5, 60, 120, 0}, plate_upper{559.5, 351.5, 60, 120, 90},
    plate_upper_right{759.5, 351.5, 60, 120, 90};

Target plate_taught(const Settings& settings, std::optional<Point2> origin = {}) {
  render::Random random(7);
  const Image<uint8_t> grey = grey_levels(picture_for(render::gauge_plate(random), 8));
  return teach_target("edge", {.grey = grey, .region = Region::rectangle(plate_middle, 520, 400, {})},
                      {.name = "plate", .origin = origin, .settings = settings});
}

Target stripe_taught() {
  render::Random random(7);
  const render::StudioView view = render::floor_stripe(random);
  const Picture picture = picture_for(view, 8);
  const Image<uint8_t> grey = grey_levels(picture);
  return teach_target("stripe",
                      {.grey = grey,
                       .color = std::get<Image<Rgb>>(picture.pixels),
                       .region = Region::rectangle(view.parts[0].pixel, 200, 200, {})},
                      {.name = "way", .settings = {{"ahead", 511.5}, {"top", 0.0}, {"bottom", 1023.0}}});
}

constexpr int view_count = sanitized ? 2 : 12;

}  // namespace

TEST_CASE("three edges locate a plate with a groove, tape and crumbs on it" *
          doctest::test_suite("many pictures")) {
  const Target target = plate_taught(
      {{"band", plate_left}, {"second", plate_upper}, {"third", plate_upper_right}}, plate_middle);
  for (int i = 0; i < view_count; ++i) {
    render::Random random(600 + static_cast<uint64_t>(i));
    const render::StudioView view = render::gauge_plate(random, {.hard = true});
    const FindResult found = find(target, prepare(picture_for(view, 9), target));
    REQUIRE(found.detections.size() == 1);
    const Detection& s = found.detections[0];
    CHECK(distance({s.x, s.y}, view.parts[0].pixel) < 0.12);
    CHECK(std::abs((s.angle - view.parts[0].angle).wrapped().degrees()) < 0.05);
    CHECK(s.score > 60);
  }
}

TEST_CASE("a corner and a bore of the same plate lie where the renderer put them" *
          doctest::test_suite("many pictures")) {
  const Target corner = plate_taught(
                   {{"fit", std::string("corner")}, {"band", plate_left}, {"second", plate_upper}}),
               bore = plate_taught(
                   {{"fit", std::string("circle")}, {"arc", Numbers{679.5, 491.5, 14, 52, 0, 360}}});
  for (int i = 0; i < view_count; ++i) {
    render::Random random(700 + static_cast<uint64_t>(i));
    const render::StudioView view = render::gauge_plate(random, {.hard = true});
    const Picture picture = picture_for(view, 10);
    const FindResult corners = find(corner, prepare(picture, corner)),
                     bores = find(bore, prepare(picture, bore));
    REQUIRE(corners.detections.size() == 1);
    CHECK(distance({corners.detections[0].x, corners.detections[0].y}, view.parts[0].corners[0]) < 0.6);
    CHECK(*corners.detections[0].measurement("opening") == doctest::Approx(90).epsilon(0.01));
    REQUIRE(bores.detections.size() == 1);
    CHECK(distance({bores.detections[0].x, bores.detections[0].y}, view.parts[0].chips[0].pixel) < 0.08);
    CHECK(*bores.detections[0].measurement("diameter") == doctest::Approx(64).epsilon(0.004));
  }
  render::Random random(800);
  const Picture empty = picture_for(render::gauge_plate(random, {.hard = true, .empty = true}), 11);
  for (const Target* target : {&corner, &bore}) {
    const FindResult none = find(*target, prepare(empty, *target));
    CHECK(none.detections.empty());
    CHECK(!none.misses.empty());
  }
}

TEST_CASE("a stripe is followed through wear, gaps, shadow, glare, skid marks and chalk" *
          doctest::test_suite("many pictures")) {
  const Target target = stripe_taught();
  for (int i = 0; i < view_count; ++i) {
    render::Random random(900 + static_cast<uint64_t>(i));
    const render::StudioView view = render::floor_stripe(random, {.hard = true});
    const FindResult found = find(target, prepare(picture_for(view, 12), target));
    REQUIRE(found.detections.size() == 1);
    const Detection& s = found.detections[0];
    CHECK(std::abs(s.x - view.parts[0].pixel.x) < 1);
    CHECK(s.y == 511.5);
    CHECK(std::abs((s.angle - view.parts[0].angle).degrees()) < 0.4);
  }
  render::Random random(950);
  const render::StudioView bare = render::floor_stripe(random, {.hard = true, .empty = true});
  const FindResult none = find(target, prepare(picture_for(bare, 13), target));
  CHECK(none.detections.empty());
  REQUIRE(!none.misses.empty());
  CHECK(!none.misses[0].reasons.empty());
  // Without a reason asked for, none is looked for.
  const PreparedPicture grey_floor(Image<uint8_t>(1280, 1024));
  CHECK(find(target, grey_floor, target.options(), Explain::never).misses.empty());
  REQUIRE(find(target, grey_floor).misses.size() == 1);
  CHECK(find(target, grey_floor).misses[0].reasons[0].name == "seen");
}

TEST_CASE("a stop ends every kind's search, and what comes back is marked as incomplete") {
  Work stopped;
  stopped.stop();
  render::Random random(5);
  const render::StudioView tiles = render::glazed_tiles(random, {.parts = 3});
  const Picture picture = picture_for(tiles, 3);
  const Image<uint8_t> grey = grey_levels(picture);
  const Target color = teach_target("color",
                                    {.grey = grey,
                                     .color = std::get<Image<Rgb>>(picture.pixels),
                                     .region = Region::rectangle(tiles.parts[0].pixel, 24, 24, {})},
                                    {.name = "teal"});
  CHECK_FALSE(find(color, prepare(picture, color), color.options(), Explain::always, &stopped).complete);
  const Target edges = plate_taught({{"band", plate_left}, {"second", plate_upper}});
  const PreparedPicture blank(Image<uint8_t>(1280, 1024));
  CHECK_FALSE(find(edges, blank, edges.options(), Explain::always, &stopped).complete);
  const Target stripe = stripe_taught();
  CHECK_FALSE(find(stripe, blank, stripe.options(), Explain::always, &stopped).complete);
  Work going;
  CHECK(find(edges, blank, edges.options(), Explain::always, &going).complete);
}

TEST_CASE("a hole that touches the region's edge is refused at teaching, and searched for by its centre") {
  render::Random random(40);
  const render::StudioView view = render::door_frame(random, {.parts = 1, .turned = 0});
  const Image<uint8_t> grey = grey_levels(picture_for(view, 4));
  const Point2 at = view.parts[0].pixel;  // 64 pixels across
  const auto taught = [&](Point2 off, double side) {
    return teach_target("marker", {.grey = grey, .region = Region::rectangle(at + off, side, side, {})},
                        {.name = "bore"});
  };
  CHECK(contains(error_of([&] { taught({14, 0}, 80); }), "touches the region's edge"));
  CHECK(contains(error_of([&] {
                   taught({0, -12}, 80);
                 }),
                 "draw the region so that all of its rim lies inside"));
  const Target bore = taught({}, 96);
  const auto found_in = [&](const Region& region) {
    FindOptions options = bore.options();
    options.region = region;
    return find(bore, PreparedPicture(Image<uint8_t>(grey)), options, Explain::always);
  };
  // The region is where the centre lies: a rim that reaches out of it does no harm, a centre outside does.
  CHECK(found_in(Region::rectangle(at + Point2{20, 0}, 60, 60, {})).detections.size() == 1);
  const FindResult outside = found_in(Region::rectangle(at + Point2{40, 0}, 60, 60, {}));
  CHECK(outside.detections.empty());
  REQUIRE(!outside.misses.empty());
  CHECK(outside.misses[0].reasons[0].name == "region");
}
