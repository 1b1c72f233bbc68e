#include <doctest/doctest.h>

#include <numeric>

#include "heron/locate/target.hpp"
#include "heron/render/scene.hpp"
#include "heron/render/studio_views.hpp"
#include "sanitized.hpp"
#include "support.hpp"

using namespace heron;
using support::contains;
using support::error_of;

namespace {

using Settings = std::map<std::string, SettingValue>;

/// A bright plate on a dark table, its upper left corner at a known place, seen from straight above.
struct Plate {
  Point2 corner{120.3, 90.7};  ///< pixels
  Angle turned = {};
  double sigma = 2, texture = 0;

  Image<float> exact(uint64_t texture_seed = 1) const {
    render::Scene scene;
    scene.camera = render::straight_camera(400, 300, 1);
    scene.width = 400, scene.height = 300, scene.background = 0.2;
    scene.texture = texture, scene.texture_seed = texture_seed;
    const Point2 at{corner.x - 199.5, -(corner.y - 149.5)};
    render::Piece plate{render::rectangle(230, 160, {115, -80}), {at.x, at.y, -turned}, 0.7};
    scene.pieces.push_back(plate);
    return render::exact_picture(scene);
  }
  Image<uint8_t> picture(uint64_t seed = 1) const {
    render::Random random(seed);
    return render::expose(exact(), {.sigma = sigma}, random);
  }
};

Target edge_taught(const Image<uint8_t>& picture, const Box& region, const Settings& settings = {}) {
  return teach_target("edge", {.grey = picture, .region = Region::rectangle(region)},
                      {.name = "e", .settings = settings});
}

/// Spokes of a wheel: bright wedges on dark, around a centre.
Image<uint8_t> wheel(int spokes, double first_degrees) {
  Image<float> exact(300, 300);
  for (int y = 0; y < 300; ++y)
    for (int x = 0; x < 300; ++x) {
      float sum = 0;
      for (int v = 0; v < 4; ++v)
        for (int u = 0; u < 4; ++u) {
          const Point2 p{x - 150 + (u - 1.5) / 4, y - 150 + (v - 1.5) / 4};
          const double turn = std::fmod(radians(std::atan2(p.y, p.x)).degrees() - first_degrees + 720, 360.0);
          sum += std::fmod(turn, 360.0 / spokes) < 180.0 / spokes ? 180.0f : 40.0f;
        }
      exact(x, y) = sum / 16;
    }
  render::Random random(3);
  return render::expose(exact, {.sigma = 2}, random);
}

}  // namespace

TEST_CASE("an edge is found along its band, in both directions, and its line's angle is told") {
  const Plate plate;
  const Target left = edge_taught(plate.picture(), {100, 120, 40, 60});
  const FindResult found = find(left, PreparedPicture(plate.picture(2)));
  REQUIRE(found.detections.size() == 1);
  const Detection& s = found.detections[0];
  CHECK(std::abs(s.x - plate.corner.x) < 0.03);
  CHECK(s.y == doctest::Approx(150));
  CHECK(s.score > 95);
  CHECK(*s.measurement("change") > 90);
  CHECK(std::abs(*s.measurement("edge_angle")) < 0.1);
  CHECK(*s.sigma.x < 0.02);
  CHECK_FALSE(s.sigma.y);  // along the edge nothing is known
  CHECK_FALSE(s.has_angle);
  REQUIRE(found.profiles.size() == 1);
  CHECK(found.profiles[0].edges.size() == 1);
  // The same band from the right: the edge falls.
  const Settings back{{"band", std::vector<double>{120, 150, 40, 60, 180}},
                      {"change", std::string("falling")}};
  CHECK(
      std::abs(find(edge_taught(plate.picture(), {100, 120, 40, 60}, back), PreparedPicture(plate.picture(2)))
                   .detections[0]
                   .x -
               plate.corner.x) < 0.03);
  Plate turned = plate;
  turned.turned = 3_deg;
  const FindResult leaning = find(left, PreparedPicture(turned.picture(4)));
  REQUIRE(leaning.detections.size() == 1);
  CHECK(*leaning.detections[0].measurement("edge_angle") == doctest::Approx(3).epsilon(0.03));
  // Where it crosses the band's middle, 59.3 pixels below the corner.
  CHECK(std::abs(leaning.detections[0].x - (plate.corner.x - 59.3 * std::tan(degrees(3).radians()))) < 0.05);
}

TEST_CASE("an edge's place reaches 1.5 times the bound that noise sets, and its sigma is honest") {
  Plate plate;
  const Target left = edge_taught(plate.picture(), {100, 120, 40, 60});
  // The bound in a band of 60 rows: position, both levels unknown.
  const auto exact = [&](const Eigen::VectorXd& p) {
    Plate moved = plate;
    moved.corner.x = p[0];
    const Image<float> whole = moved.exact();
    Image<float> band(40, 60);
    for (int y = 0; y < 60; ++y) std::copy_n(whole.row(120 + y) + 100, 40, band.row(y));
    return band;
  };
  const Eigen::VectorXd at = Eigen::VectorXd::Constant(1, plate.corner.x),
                        step = Eigen::VectorXd::Constant(1, 0.02);
  const double bound = std::sqrt(render::cramer_rao_bound(exact, at, step, plate.sigma)(0, 0));
  double squares = 0, sum = 0;
  int within = 0;
  constexpr int runs = sanitized ? 8 : 200;
  const Image<float> picture = plate.exact();
  render::Random random(8);
  for (int i = 0; i < runs; ++i) {
    const FindResult found =
        find(left, PreparedPicture(render::expose(picture, {.sigma = plate.sigma}, random)));
    REQUIRE(found.detections.size() == 1);
    const double off = found.detections[0].x - plate.corner.x;
    squares += off * off, sum += off, within += std::abs(off) < 2 * *found.detections[0].sigma.x;
  }
  MESSAGE("rms over bound " << std::sqrt(squares / runs) / bound << ", bias " << sum / runs);
  if (sanitized) return;  // too few to judge; the plain build does
  CHECK(std::sqrt(squares / runs) < 1.5 * bound);
  CHECK(std::abs(sum / runs) < 0.01);
  CHECK(within > 0.9 * runs);
}

TEST_CASE("an edge square to the pixels is met at every fraction of a pixel alike") {
  // Before, by up to 0.022 pixels off: all scans read between pixels at the same fraction.
  Plate plate{.sigma = 0.3};
  const Target left = edge_taught(plate.picture(), {100, 120, 40, 60});
  double worst = 0;
  for (int i = 0; i < 10; ++i) {
    plate.corner.x = 120.05 + 0.1 * i;
    const FindResult found = find(left, PreparedPicture(plate.picture(5 + static_cast<uint64_t>(i))));
    REQUIRE(found.detections.size() == 1);
    worst = std::max(worst, std::abs(found.detections[0].x - plate.corner.x));
  }
  MESSAGE("worst " << worst << " px");
  CHECK(worst < 0.006);
}

TEST_CASE("one edge in x and one in y locate a part that shifts, a third its small turn") {
  const Plate plate;
  const std::vector<double> left{120, 180, 40, 60, 0}, upper{220, 90, 40, 60, 90},
      upper_right{320, 90, 40, 40, 90};
  const Target two = edge_taught(plate.picture(), {90, 60, 200, 180}, {{"band", left}, {"second", upper}});
  Plate shifted = plate;
  shifted.corner += Point2{4.25, -3.5};
  const FindResult moved = find(two, PreparedPicture(shifted.picture(5)));
  REQUIRE(moved.detections.size() == 1);
  // The part's position is where both edges cross: its corner.
  CHECK(std::abs(moved.detections[0].x - shifted.corner.x) < 0.03);
  CHECK(std::abs(moved.detections[0].y - shifted.corner.y) < 0.03);
  CHECK_FALSE(moved.detections[0].has_angle);

  const Target three = edge_taught(plate.picture(), {90, 60, 260, 180},
                                   {{"band", left}, {"second", upper}, {"third", upper_right}});
  Plate turned = shifted;
  turned.turned = 1.5_deg;
  const FindResult found = find(three, PreparedPicture(turned.picture(6)));
  REQUIRE(found.detections.size() == 1);
  const Detection& s = found.detections[0];
  CHECK(s.has_angle);
  CHECK(std::abs(s.angle.degrees() - 1.5) < 0.03);
  CHECK(std::abs(s.x - turned.corner.x) < 0.08);
  CHECK(std::abs(s.y - turned.corner.y) < 0.08);
  CHECK(
      contains(error_of([&] {
                 edge_taught(plate.picture(), {90, 60, 200, 180}, {{"band", upper}, {"second", upper_right}});
               }),
               "turn one of them"));
}

TEST_CASE("around a ring every edge is counted once, wherever the ring starts") {
  for (const double start : {0.0, 7.5, 30.0, 100.25}) {
    const Image<uint8_t> picture = wheel(12, 7.5);
    const Settings ring{{"arc", std::vector<double>{150, 150, 80, 110, start, 360}},
                        {"order", std::string("all")},
                        {"change", std::string("rising")}};
    const Target target = edge_taught(picture, {20, 20, 260, 260}, ring);
    const FindResult found = find(target, PreparedPicture(Image<uint8_t>(picture)));
    CHECK(found.detections.size() == 12);
    for (const Detection& s : found.detections) {
      const double off = std::remainder(*s.measurement("along") + start - 7.5, 30.0);
      CHECK(std::abs(off) < 0.03);
      CHECK(s.has_angle);
    }
    // The other way round the same edges fall, and with every third of all there are eight.
    const Settings back{{"arc", std::vector<double>{150, 150, 80, 110, start, -360}},
                        {"order", std::string("all")},
                        {"every", 3}};
    CHECK(find(edge_taught(picture, {20, 20, 260, 260}, back), PreparedPicture(Image<uint8_t>(picture)))
              .detections.size() == 8);
  }
}

TEST_CASE("first, last and strongest are what they say, and what is turned away says why") {
  Image<uint8_t> steps(200, 60);
  for (int y = 0; y < 60; ++y)
    for (int x = 0; x < 200; ++x)
      steps(x, y) = static_cast<uint8_t>(x < 40 ? 50 : x < 90 ? 80 : x < 150 ? 180 : 160);
  const auto at = [&](const char* order, const char* change) {
    const Target t = edge_taught(steps, {10, 10, 180, 40},
                                 {{"order", std::string(order)}, {"change", std::string(change)}});
    return find(t, PreparedPicture(Image<uint8_t>(steps))).detections[0].x;
  };
  CHECK(at("first", "either") == doctest::Approx(39.5).epsilon(0.002));
  CHECK(at("strongest", "either") == doctest::Approx(89.5).epsilon(0.002));
  CHECK(at("last", "either") == doctest::Approx(149.5).epsilon(0.002));
  CHECK(at("last", "rising") == doctest::Approx(89.5).epsilon(0.002));
  const Target strict =
      edge_taught(steps, {10, 10, 180, 40}, {{"change", std::string("rising")}, {"threshold", 90.0}});
  Image<uint8_t> dim(200, 60);
  for (int y = 0; y < 60; ++y)
    for (int x = 0; x < 200; ++x) dim(x, y) = static_cast<uint8_t>(steps(x, y) / 2);
  const FindResult none = find(strict, PreparedPicture(std::move(dim)));
  CHECK(none.detections.empty());
  REQUIRE(!none.misses.empty());
  CHECK(none.misses[0].reasons[0].name == "contrast");
  CHECK(none.misses[0].reasons[0].value == doctest::Approx(50).epsilon(0.05));
}

TEST_CASE("bands that describe nothing, leave the picture or hold no edge are refused in words") {
  const Plate plate;
  const Image<uint8_t> picture = plate.picture();
  const auto refused = [&](const Settings& settings, const Box& region = {90, 60, 200, 180}) {
    return error_of([&] { edge_taught(picture, region, settings); });
  };
  CHECK(contains(refused({{"band", std::vector<double>{120, 150, 0, 60, 0}}}), "at least 6 long"));
  CHECK(
      contains(refused({{"band", std::vector<double>{20, 150, 400, 60, 0}}}), "reaches outside the picture"));
  CHECK(contains(refused({{"band", std::vector<double>{20, 150}}}), "must be 5 numbers"));
  CHECK(contains(refused({{"arc", std::vector<double>{150, 150, 80, 110, 0, 400}}}), "up to 360"));
  CHECK(contains(refused({{"arc", std::vector<double>{150, 150, 300, 310, 0, 360}}}),
                 "reaches outside the picture"));
  CHECK(contains(refused({}, {10, 10, 60, 40}), "no edge of at least"));
  CHECK(
      contains(refused({{"order", std::string("all")}, {"second", std::vector<double>{220, 90, 40, 60, 90}}}),
               "order"));
  CHECK(contains(refused({{"order", std::string("any")}}), "must be one of: first, last"));
  const Target taught = edge_taught(picture, {100, 120, 40, 60});
  CHECK(contains(error_of([&] { find(taught, PreparedPicture(Image<uint8_t>(80, 80))); }), "80 x 80"));
}

TEST_CASE("bands that do not lie square on their edges locate the part as exactly, wherever it slides to") {
  const Plate plate;
  // Each some degrees off: the place where a band meets its edge slides along the edge with the part.
  const std::vector<double> left{120, 180, 44, 60, 4}, upper{220, 90, 44, 60, 86},
      upper_right{310, 90, 44, 40, 93};
  const Settings two{{"band", left}, {"second", upper}},
      three{{"band", left}, {"second", upper}, {"third", upper_right}};
  for (const Point2 moved : {Point2{6, -7}, {-7, 5}, {0, 7.5}}) {
    Plate shifted = plate;
    shifted.corner += moved;
    for (const Settings& settings : {two, three}) {
      const Target target = edge_taught(plate.picture(), {90, 60, 260, 180}, settings);
      const FindResult found = find(target, PreparedPicture(shifted.picture(7)));
      REQUIRE(found.detections.size() == 1);
      const Detection &now = found.detections[0],
                      was = find(target, PreparedPicture(plate.picture(8))).detections.at(0);
      CHECK(std::abs(now.x - was.x - moved.x) < 4 * *now.sigma.x);
      CHECK(std::abs(now.y - was.y - moved.y) < 4 * *now.sigma.y);
      CHECK(std::max(*now.sigma.x, *now.sigma.y) < 0.03);
      CHECK(now.score > 95);  // strips far from the band's middle see it, too
    }
  }
}

TEST_CASE("a part's sigmas hold the errors of its taught edges, on even ground and on uneven" *
          doctest::test_suite("many pictures")) {
  constexpr int runs = sanitized ? 4 : 120;
  const std::vector<double> left{120, 180, 40, 60, 0}, upper{220, 90, 40, 60, 90},
      upper_right{320, 90, 40, 40, 90};
  for (const double texture : {0.0, 0.015}) {
    Plate plate;
    plate.texture = texture;
    int x = 0, y = 0, angle = 0;
    double error = 0, told = 0;
    for (uint64_t seed = 0; seed < runs; ++seed) {
      render::Random random(300 + seed);
      const auto shot = [&] { return render::expose(plate.exact(random.bits()), {.sigma = 2}, random); };
      const Target target =
          teach_target("edge", {.grey = shot(), .region = Region::rectangle({90, 60, 260, 180})},
                       {.name = "e",
                        .origin = plate.corner,
                        .settings = Settings{{"band", left}, {"second", upper}, {"third", upper_right}}});
      const FindResult found = find(target, PreparedPicture(shot()));
      REQUIRE(found.detections.size() == 1);
      const Detection& s = found.detections[0];
      x += std::abs(s.x - plate.corner.x) < 2 * *s.sigma.x;
      y += std::abs(s.y - plate.corner.y) < 2 * *s.sigma.y;
      angle += std::abs(s.angle.degrees()) < 2 * s.sigma.angle->degrees();
      error += (s.y - plate.corner.y) * (s.y - plate.corner.y) / runs, told += *s.sigma.y / runs;
    }
    MESSAGE("texture " << texture << ", within two sigma of " << runs << ": x " << x << ", y " << y
                       << ", angle " << angle << "; y errs by " << std::sqrt(error) << ", told " << told);
    if (sanitized) continue;  // too few to judge; the plain build does
    CHECK(x >= 0.9 * runs);
    CHECK(y >= 0.9 * runs);
    CHECK(angle >= 0.9 * runs);
    CHECK(told < 1.5 * std::sqrt(error));
  }
}
