// Silhouettes that touch, are too many, too large or too small, on backgrounds that are known or not.
#include <doctest/doctest.h>

#include "heron/locate/target.hpp"
#include "heron/render/scene.hpp"
#include "heron/render/studio_views.hpp"
#include "sanitized.hpp"
#include "support.hpp"

using namespace heron;
using support::contains;
using support::error_of;

namespace {

/// Leaves on an even tray, at two pixels a millimetre; y up from the picture's middle, millimetres.
struct OutlineTray {
  std::vector<Pose2> leaves = {};
  std::vector<render::Piece> others = {};  ///< drawn over the leaves
  double glaze = 0.6, tray = 0.22, light = 1, size = 1;
  Point2 gradient{};

  render::Scene scene() const {
    render::Scene s;
    s.width = 520, s.height = 400, s.background = tray;
    s.camera = render::straight_camera(s.width, s.height, 2);
    s.light.level = light, s.light.gradient = gradient;
    for (const Pose2& p : leaves) s.pieces.push_back({render::leaf(44 * size, 27 * size), p, glaze});
    s.pieces.insert(s.pieces.end(), others.begin(), others.end());
    return s;
  }
  Image<uint8_t> picture(uint64_t seed) const {
    render::Random random(seed);
    return render::expose(render::exact_picture(scene()), {.sigma = 2}, random);
  }
};

Point2 pixel_at(Point2 mm) { return {259.5 + 2 * mm.x, 199.5 - 2 * mm.y}; }

const Image<uint8_t>& lesson() {
  static const Image<uint8_t> picture = OutlineTray{.leaves = {{0, 0, {}}}}.picture(1);
  return picture;
}

Target leaf_taught(const std::map<std::string, SettingValue>& settings = {},
                   std::optional<FindOptions> options = {}) {
  return teach_target("outline", {.grey = lesson(), .region = Region::rectangle(pixel_at({}), 120, 90, {})},
                      {.name = "leaf", .origin = pixel_at({}), .options = options, .settings = settings});
}

/// Of the leaves, how many were found within so many pixels.
int found_of(const OutlineTray& tray, const FindResult& found, double within) {
  int count = 0;
  for (const Pose2& leaf : tray.leaves)
    for (const Detection& s : found.detections)
      count += distance({s.x, s.y}, pixel_at(leaf.position())) < within;
  return count;
}

}  // namespace

TEST_CASE("two leaves that touch are told apart where enough of each outline is free") {
  const Target leaf = leaf_taught();
  // Side by side, their bellies overlapping by a millimetre; and tip to belly.
  for (const OutlineTray& tray : {OutlineTray{.leaves = {{-20, 13, {}}, {-16, -12.4, 8_deg}}},
                                  OutlineTray{.leaves = {{-40, 0, {}}, {1, 4, 70_deg}}}}) {
    const FindResult found = find(leaf, PreparedPicture(tray.picture(2)));
    CHECK(found.detections.size() == 2);
    CHECK(found_of(tray, found, 0.5) == 2);
  }
}

TEST_CASE("a heap that is no leaf any more is a miss that asks whether it is two") {
  OutlineTray heap;
  heap.others.push_back({render::rectangle(70, 60), {0, 0, 10_deg}, 0.6});
  const FindResult found = find(leaf_taught(), PreparedPicture(heap.picture(3)));
  CHECK(found.detections.empty());
  bool asked = false;
  for (const Miss& m : found.misses)
    for (const MissReason& l : m.reasons) asked = asked || contains(l.needed, "two together?");
  CHECK(asked);
  OutlineTray speck;
  speck.others.push_back({render::hexagon(11), {30, 20, {}}, 0.6});
  const FindResult other = find(leaf_taught(), PreparedPicture(speck.picture(4)));
  CHECK(other.detections.empty());
  REQUIRE(!other.misses.empty());
}

TEST_CASE("areas, count and scale are strict limits") {
  const OutlineTray three{.leaves = {{-70, 30, {}}, {60, 40, 50_deg}, {20, -55, -120_deg}}};
  const PreparedPicture prepared(three.picture(5));
  CHECK(find(leaf_taught(), prepared).detections.size() == 3);
  FindOptions two = leaf_taught().options();
  two.max_count = 2;
  const FindResult counted = find(leaf_taught(), prepared, two);
  CHECK(counted.detections.size() == 2);
  REQUIRE(!counted.misses.empty());
  CHECK(counted.misses[0].reasons[0].name == "count");
  const FindResult large = find(leaf_taught({{"min_area", 130.0}}), prepared);
  CHECK(large.detections.empty());
  REQUIRE(large.misses.size() >= 3);
  CHECK(large.misses[0].reasons[0].name == "area");
  CHECK(large.misses[0].reasons[0].value == doctest::Approx(100).epsilon(0.03));

  OutlineTray smaller{.leaves = {{10, 5, 30_deg}}};
  smaller.size = 0.9;
  const PreparedPicture reduced(smaller.picture(6));
  CHECK(find(leaf_taught(), reduced).detections.empty());
  FindOptions scaled = leaf_taught().options();
  scaled.scale = {0.85, 1.15};
  const FindResult found = find(leaf_taught({}, scaled), reduced, scaled);
  REQUIRE(found.detections.size() == 1);
  CHECK(found.detections[0].scale == doctest::Approx(0.9).epsilon(0.003));
}

TEST_CASE("dark parts on a bright tray, dim and uneven light") {
  const OutlineTray dark{.leaves = {{0, 0, {}}}, .glaze = 0.15, .tray = 0.7};
  const Image<uint8_t> picture = dark.picture(1);
  const Target target =
      teach_target("outline", {.grey = picture, .region = Region::rectangle(pixel_at({}), 120, 90, {})},
                   {.name = "leaf", .origin = pixel_at({})});
  CHECK(target.as<OutlineTarget>()->settings().tone == PartTone::dark);
  for (const double light : {0.4, 1.0, 1.3}) {
    CAPTURE(light);
    OutlineTray tray = dark;
    tray.leaves = {{-60, 30, 40_deg}, {50, -20, -100_deg}};
    tray.light = light, tray.gradient = {0.4, -0.3};
    const FindResult found = find(target, PreparedPicture(tray.picture(7)));
    CHECK(found.detections.size() == 2);
    CHECK(found_of(tray, found, 0.3) == 2);
  }
}

TEST_CASE("a detail's contour is found whatever lies behind it, bright or dark") {
  OutlineTray detail;
  detail.others.push_back({render::crescent(17, 15), {0, 0, {}}, 0.5});
  const Image<uint8_t> taught = detail.picture(1);
  const Target target = teach_target(
      "outline", {.grey = taught, .region = Region::rectangle(pixel_at({}), 90, 90, {})},
      {.name = "detail", .origin = pixel_at({}), .settings = {{"backdrop", std::string("unknown")}}});
  for (const double behind : {0.2, 0.8}) {
    CAPTURE(behind);
    OutlineTray other;
    other.others = {{render::rectangle(120, 90), {10, 0, {}}, behind},
                    {render::crescent(17, 15), {22, -9, 35_deg}, 0.5}};
    const FindResult found = find(target, PreparedPicture(other.picture(8)));
    REQUIRE(found.detections.size() == 1);
    CHECK(distance({found.detections[0].x, found.detections[0].y}, pixel_at({22, -9})) < 0.3);
    CHECK(std::abs((found.detections[0].angle - degrees(-35)).wrapped().degrees()) < 0.5);
  }
}

TEST_CASE("a silhouette that runs into the region's border, or does not stand out, is refused") {
  const auto refused = [](const Region& region) {
    return error_of([&] { teach_target("outline", {.grey = lesson(), .region = region}, {.name = "x"}); });
  };
  CHECK(contains(refused(Region::rectangle(pixel_at({10, 0}), 80, 60, {})), "runs into the region's border"));
  CHECK(contains(refused(Region::rectangle({10, 10, 60, 60})), "stands out"));
  CHECK(contains(refused(Region()), "region is empty"));
}
