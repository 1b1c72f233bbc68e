#include <doctest/doctest.h>

#include "heron/locate/target.hpp"
#include "heron/render/random.hpp"
#include "support.hpp"

using namespace heron;
using support::contains;
using support::error_of;

namespace {

/// A floor with a teal stripe whose middle runs along x = at(y), seen from straight above.
struct Floor {
  double at_middle = 200, slope = 0, bend = 0;  ///< x at row 150, pixels right a row up, and its change a row
  double width = 30, light = 1, noise = 3;
  bool worn = false;    ///< gaps and a patch of glare
  bool frayed = false;  ///< every third stretch of 15 rows has 3 to 9 pixels worn off its left edge
  bool shadow = false;  ///< the left half of the floor in shadow
  bool branch = false;
  bool stripe = true;

  double middle(double y) const {
    const double up = 150 - y;
    return at_middle + slope * up + 0.5 * bend * up * up;
  }
  Image<Rgb> picture(uint64_t seed = 1) const {
    render::Random random(seed);
    Image<Rgb> p(400, 300);
    double bitten = 0;
    for (int y = 0; y < 300; ++y) {
      if (y % 15 == 0) bitten = frayed && y / 15 % 3 == 1 ? random.uniform(3, 9) : 0;
      for (int x = 0; x < 400; ++x) {
        const double across = x - middle(y), half = 0.5 * width;
        const double direction = std::sqrt(1 + slope * slope);
        double on = std::clamp(half * direction - std::abs(across) + 0.5, 0.0, 1.0);
        if (branch && y < 160)
          on = std::max(on, std::clamp(half - std::abs(x - (middle(160) + 1.2 * (160 - y))) + 0.5, 0.0, 1.0));
        if (!stripe || (worn && (y / 22) % 3 == 1) || across < bitten - half * direction) on = 0;
        std::array<double, 3> c{};
        for (size_t i = 0; i < 3; ++i) {
          const std::array<double, 3> floor{150, 145, 140}, teal{40, 130, 130};
          c[i] = (floor[i] + (teal[i] - floor[i]) * on) * light * (shadow && x < 205 ? 0.55 : 1.0);
          if (worn && std::hypot(x - 210.0, y - 90.0) < 28) c[i] = 255;
          c[i] = std::clamp(c[i] + noise * random.normal(), 0.0, 255.0);
        }
        p(x, y) = {static_cast<uint8_t>(c[0]), static_cast<uint8_t>(c[1]), static_cast<uint8_t>(c[2])};
      }
    }
    return p;
  }
};

const Target& teal_stripe() {
  static const Image<Rgb> picture = Floor{}.picture(9);
  static const Image<uint8_t> grey = grey_levels(picture);
  static const Target target = teach_target(
      "stripe", {.grey = grey, .color = picture, .region = Region::rectangle({150, 20, 100, 260})},
      {.name = "line"});
  return target;
}

FindResult found_on(const Floor& floor, uint64_t seed = 2) {
  return find(teal_stripe(), PreparedPicture(floor.picture(seed)));
}

}  // namespace

TEST_CASE("a stripe's offset, heading, width and bend are told") {
  Floor floor;
  floor.at_middle = 231.4, floor.slope = 0.25, floor.bend = 0.002;
  const FindResult found = found_on(floor);
  REQUIRE(found.detections.size() == 1);
  const Detection& s = found.detections[0];
  CHECK(s.y == doctest::Approx(149.5).epsilon(0.01));
  CHECK(std::abs(s.x - floor.middle(s.y)) < 0.3);
  CHECK(*s.measurement("offset") == doctest::Approx(s.x - 199.5));
  CHECK(std::abs(s.angle.degrees() - degrees(0).degrees() - radians(std::atan(0.25)).degrees()) < 0.5);
  CHECK(*s.measurement("width") == doctest::Approx(30).epsilon(0.05));
  CHECK(*s.measurement("curvature") == doctest::Approx(0.002 / std::pow(1 + 0.0625, 1.5)).epsilon(0.15));
  CHECK(*s.measurement("branches") == 0);
  CHECK(s.score > 90);
}

TEST_CASE(
    "wear, glare and shadow lower the confidence and leave the place alone; without a stripe there is none") {
  for (const double light : {0.5, 1.0, 1.3}) {
    Floor floor;
    floor.at_middle = 185.2, floor.slope = -0.15, floor.light = light;
    floor.worn = floor.shadow = true;
    const FindResult found = found_on(floor);
    REQUIRE(found.detections.size() == 1);
    const Detection& s = found.detections[0];
    CHECK(std::abs(s.x - floor.middle(s.y)) < 1.5);
    CHECK(std::abs(s.angle.degrees() + radians(std::atan(0.15)).degrees()) < 1);
    CHECK(s.score < 85);
    CHECK(s.score > 40);
  }
  Floor bare;
  bare.stripe = false, bare.shadow = true;
  CHECK(found_on(bare).detections.empty());
}

TEST_CASE("an edge that is worn off in a third of the rows does not pull the stripe's middle with it") {
  for (const uint64_t seed : {3, 4, 5}) {
    CAPTURE(seed);
    const Floor floor{.at_middle = 210.3, .slope = 0.1, .frayed = true};
    const FindResult found = found_on(floor, seed);
    REQUIRE(found.detections.size() == 1);
    const Detection& s = found.detections[0];
    MESSAGE("off by " << s.x - floor.middle(s.y) << " px");
    CHECK(std::abs(s.x - floor.middle(s.y)) < 0.15);  // the rows' mean lies a pixel to the right
    CHECK(std::abs(s.angle.degrees() - radians(std::atan(0.1)).degrees()) < 0.1);
  }
}

TEST_CASE("a branch is counted, and the straight way is kept") {
  Floor floor;
  floor.branch = true;
  const FindResult found = found_on(floor);
  REQUIRE(found.detections.size() == 1);
  CHECK(*found.detections[0].measurement("branches") == 1);
  CHECK(std::abs(found.detections[0].x - 200) < 1);
}

TEST_CASE("grey pictures are followed by brightness; what cannot be taught is said") {
  const Image<uint8_t> grey = grey_levels(Floor{}.picture(3));
  const Target target = teach_target(
      "stripe", {.grey = grey, .region = Region::rectangle({150, 20, 100, 260})}, {.name = "grey"});
  Floor floor;
  floor.at_middle = 160, floor.slope = 0.1;
  const FindResult found = find(target, PreparedPicture(grey_levels(floor.picture(4))));
  REQUIRE(found.detections.size() == 1);
  CHECK(std::abs(found.detections[0].x - floor.middle(149.5)) < 1);
  const auto refused = [&](const Box& box, const std::map<std::string, SettingValue>& settings = {}) {
    return error_of([&] {
      teach_target("stripe", {.grey = grey, .region = Region::rectangle(box)},
                   {.name = "x", .settings = settings});
    });
  };
  CHECK(contains(refused({10, 20, 100, 260}), "teach:"));
  CHECK(contains(refused({150, 20, 100, 8}), "at least 16 rows"));
  CHECK(contains(refused({150, 20, 100, 260}, {{"scans", 3}}), "scans 3"));
  FindOptions nowhere = target.options();
  nowhere.region = Region::rectangle({0, 0, 10, 10});
  const FindResult none = find(target, PreparedPicture(Image<uint8_t>(grey)), nowhere);
  CHECK(none.detections.empty());
  CHECK(none.misses[0].reasons[0].name == "region");
}
