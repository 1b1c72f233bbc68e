// Circles, corners and repeats: what edges of many scans are put together to.
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

using Settings = std::map<std::string, SettingValue>;
using Numbers = std::vector<double>;

/// A disc on a table, seen from straight above at one pixel a millimetre.
struct Disc {
  Point2 centre{160.3, 140.7};  ///< pixels
  double radius = 70.4, sigma = 2, light = 1;
  double covered_degrees = 0;  ///< of the rim, from above
  bool bright = true;

  Image<float> exact() const {
    render::Scene scene;
    scene.camera = render::straight_camera(320, 280, 1);
    scene.width = 320, scene.height = 280, scene.background = bright ? 0.2 : 0.7;
    scene.light.level = light;
    const Point2 at{centre.x - 159.5, -(centre.y - 139.5)};
    scene.pieces.push_back({render::disc(radius), {at.x, at.y, {}}, bright ? 0.7 : 0.2});
    if (covered_degrees > 0) {
      const double half = degrees(covered_degrees / 2).radians();
      std::vector<Point2> wedge{{0, 0}};
      for (int i = -4; i <= 4; ++i) wedge.push_back(unit(radians(half * i / 4 + 1.5707963)) * (1.4 * radius));
      scene.pieces.push_back({{{wedge}}, {at.x, at.y, {}}, 0.45});
    }
    return render::exact_picture(scene);
  }
  Image<uint8_t> picture(uint64_t seed) const {
    render::Random random(seed);
    return render::expose(exact(), {.sigma = sigma}, random);
  }
};

/// A bright square corner on dark, its sides along `turned` and a right angle further; `opening` apart.
struct Wedge {
  Point2 at{150.4, 120.6};
  Angle turned = {};
  double sigma = 2, opening_degrees = 90;

  Image<uint8_t> picture(uint64_t seed) const {
    render::Random random(seed);
    return render::expose(exact(), {.sigma = sigma}, random);
  }
  Image<float> exact() const {
    render::Scene scene;
    scene.camera = render::straight_camera(320, 280, 1);
    scene.width = 320, scene.height = 280, scene.background = 0.2;
    const Point2 p{at.x - 159.5, -(at.y - 139.5)};
    // In the picture one side runs along +x, the other along `opening` towards +y, which is down.
    const Point2 a = unit(degrees(0)), b = unit(degrees(-opening_degrees));
    const render::Outline wedge{{{{0, 0}, b * 300, (a + b) * 300, a * 300}}};
    scene.pieces.push_back({wedge, {p.x, p.y, -turned}, 0.7});
    return render::exact_picture(scene);
  }
};

Target taught(const Image<uint8_t>& picture, const Settings& settings,
              const Box& region = {60, 40, 200, 200}) {
  return teach_target("edge", {.grey = picture, .region = Region::rectangle(region)},
                      {.name = "e", .settings = settings});
}

Settings circle_of(const Numbers& arc) { return {{"fit", std::string("circle")}, {"arc", arc}}; }
Settings corner_of(const Numbers& band, const Numbers& second) {
  return {{"fit", std::string("corner")}, {"band", band}, {"second", second}};
}

const Numbers left_side{150, 180, 40, 60, 0}, upper_side{210, 120, 40, 60, 90};

/// A wheel of teeth, of which `hidden` degrees are covered by something grey.
Image<uint8_t> toothed(int teeth, double first_degrees, double hidden = 0, double share = 0.4) {
  Image<float> exact(300, 300);
  for (int y = 0; y < 300; ++y)
    for (int x = 0; x < 300; ++x) {
      float sum = 0;
      for (int v = 0; v < 3; ++v)
        for (int u = 0; u < 3; ++u) {
          const Point2 p{x - 150 + (u - 1) / 3.0, y - 150 + (v - 1) / 3.0};
          const double turn = std::fmod(radians(std::atan2(p.y, p.x)).degrees() - first_degrees + 720, 360.0);
          const bool tooth = std::fmod(turn, 360.0 / teeth) < share * 360 / teeth;
          sum += turn < hidden ? 110.0f : tooth ? 180.0f : 40.0f;
        }
      exact(x, y) = sum / 9;
    }
  render::Random random(5);
  return render::expose(exact, {.sigma = 2}, random);
}

}  // namespace

TEST_CASE("a circle is met by scans from inside to outside, wherever in the ring it lies") {
  const Disc plate;
  const Target target = taught(plate.picture(1), circle_of({160, 140, 40, 100, 0, 360}));
  for (const Point2 moved : {Point2{0, 0}, {7.25, -9.5}, {-12, 10.75}}) {
    Disc there = plate;
    there.centre += moved;
    const FindResult found = find(target, PreparedPicture(there.picture(2)));
    REQUIRE(found.detections.size() == 1);
    const Detection& s = found.detections[0];
    CHECK(distance({s.x, s.y}, there.centre) < 0.05);
    CHECK(*s.measurement("radius") == doctest::Approx(plate.radius).epsilon(0.0005));
    CHECK(*s.measurement("change") < -80);  // bright inside
    CHECK(s.score > 95);
    CHECK_FALSE(s.has_angle);
    CHECK(*s.sigma.x < 0.02);
    REQUIRE(s.rim);
    CHECK(s.rim->radius == doctest::Approx(plate.radius).epsilon(0.0005));
  }
}

TEST_CASE("a circle's centre and radius reach 1.5 times the bound, and their sigmas are honest") {
  const Disc plate;
  const Target target = taught(plate.picture(1), circle_of({160, 140, 40, 100, 0, 360}));
  const auto exact = [&](const Eigen::VectorXd& p) {
    Disc moved = plate;
    moved.centre = {p[0], p[1]}, moved.radius = p[2];
    return moved.exact();
  };
  const Eigen::VectorXd at = Eigen::Vector3d(plate.centre.x, plate.centre.y, plate.radius),
                        step = Eigen::Vector3d::Constant(0.02);
  const Eigen::MatrixXd bound = render::cramer_rao_bound(exact, at, step, plate.sigma);
  constexpr int runs = sanitized ? 4 : 200;
  const Image<float> picture = plate.exact();
  render::Random random(9);
  double squares[3] = {}, sums[3] = {};
  int within[3] = {};
  for (int i = 0; i < runs; ++i) {
    const FindResult found =
        find(target, PreparedPicture(render::expose(picture, {.sigma = plate.sigma}, random)));
    REQUIRE(found.detections.size() == 1);
    const Detection& s = found.detections[0];
    const double off[3] = {s.x - plate.centre.x, s.y - plate.centre.y,
                           *s.measurement("radius") - plate.radius},
                 sigma[3] = {*s.sigma.x, *s.sigma.y, *s.measurement("radius_sigma")};
    for (int k = 0; k < 3; ++k)
      squares[k] += off[k] * off[k], sums[k] += off[k], within[k] += std::abs(off[k]) < 2 * sigma[k];
  }
  for (int k = 0; k < 3; ++k) {
    const double ratio = std::sqrt(squares[k] / runs / bound(k, k));
    MESSAGE("x, y, radius " << k << ": rms over bound " << ratio << ", bias " << sums[k] / runs
                            << ", within two sigma " << 100.0 * within[k] / runs);
    if (sanitized) continue;  // too few to judge; the plain build does
    CHECK(ratio < 1.5);
    CHECK(std::abs(sums[k] / runs) < 0.01);
    CHECK(within[k] > 0.9 * runs);
  }
}

TEST_CASE("a circle of which a third is hidden, or an arc of it, is met all the same") {
  Disc hidden;
  hidden.covered_degrees = 120;
  const Target ring = taught(Disc().picture(1), circle_of({160, 140, 40, 100, 0, 360}));
  const FindResult found = find(ring, PreparedPicture(hidden.picture(3)));
  REQUIRE(found.detections.size() == 1);
  const Detection& s = found.detections[0];
  CHECK(distance({s.x, s.y}, hidden.centre) < 0.06);
  CHECK(s.score == doctest::Approx(67).epsilon(0.06));
  int unseen = 0;
  for (const Contour& t : s.contours) unseen += !t.seen && !t.closed;
  CHECK(unseen >= 18);
  // A quarter of the rim alone knows the centre less well, along the arc's axis most of all.
  const Target quarter = taught(Disc().picture(1), circle_of({160, 140, 40, 100, -45, 90}));
  const FindResult part = find(quarter, PreparedPicture(Disc().picture(4)));
  REQUIRE(part.detections.size() == 1);
  CHECK(distance({part.detections[0].x, part.detections[0].y}, Disc().centre) < 0.3);
  CHECK(*part.detections[0].sigma.x > 3 * *s.sigma.x);
}

TEST_CASE("a dark disc, dim light and a ring inside the ring do not mislead a circle") {
  Disc dark;
  dark.bright = false;
  const Target target = taught(dark.picture(1), circle_of({160, 140, 40, 100, 0, 360}));
  CHECK(*find(target, PreparedPicture(dark.picture(2))).detections[0].measurement("change") > 80);
  Disc dim = dark;
  dim.light = 0.35;
  const FindResult found = find(target, PreparedPicture(dim.picture(3)));
  REQUIRE(found.detections.size() == 1);
  CHECK(distance({found.detections[0].x, found.detections[0].y}, dim.centre) < 0.1);
  // Where the picture is bright inside, nothing rises outwards: told, not found.
  const FindResult other = find(target, PreparedPicture(Disc().picture(4)));
  CHECK(other.detections.empty());
  REQUIRE(!other.misses.empty());
  CHECK(other.misses[0].reasons[0].name == "circle");
}

TEST_CASE("without an arc the largest ring inside the region is scanned") {
  const Disc plate;
  const Target target = taught(plate.picture(1), {{"fit", std::string("circle")}}, {80, 60, 160, 160});
  const auto& s = target.as<EdgeTarget>()->settings();
  REQUIRE(s.arc.size() == 6);
  CHECK(s.arc[0] == 160);
  CHECK(s.arc[3] == 79.5);
  CHECK(s.taught[0] == doctest::Approx(plate.radius).epsilon(0.001));
  CHECK(find(target, PreparedPicture(plate.picture(2))).detections.size() == 1);
}

TEST_CASE("a corner lies where two lines meet, turns with them and tells its opening") {
  const Wedge wedge;
  const Target target = taught(wedge.picture(1), corner_of(left_side, upper_side), {120, 90, 140, 140});
  const FindResult straight = find(target, PreparedPicture(wedge.picture(2)));
  REQUIRE(straight.detections.size() == 1);
  CHECK(distance({straight.detections[0].x, straight.detections[0].y}, wedge.at) < 0.06);
  CHECK(*straight.detections[0].measurement("opening") == doctest::Approx(90).epsilon(0.003));
  CHECK(std::abs(straight.detections[0].angle.degrees()) < 0.15);
  Wedge turned = wedge;
  turned.turned = 4_deg, turned.at += Point2{3.5, 5.25};
  const FindResult found = find(target, PreparedPicture(turned.picture(3)));
  REQUIRE(found.detections.size() == 1);
  const Detection& s = found.detections[0];
  CHECK(s.has_angle);
  CHECK(s.angle.degrees() == doctest::Approx(4).epsilon(0.03));
  CHECK(distance({s.x, s.y}, turned.at) < 0.12);
  REQUIRE(s.points.size() == 1);
  CHECK(distance(s.points[0].at, turned.at) < 0.12);
  Wedge sharp = wedge;
  sharp.opening_degrees = 84;
  const FindResult narrow = find(target, PreparedPicture(sharp.picture(4)));
  REQUIRE(narrow.detections.size() == 1);
  CHECK(*narrow.detections[0].measurement("opening") == doctest::Approx(84).epsilon(0.004));
}

TEST_CASE("a corner's sigmas hold, and grow with the way from the bands to it" *
          doctest::test_suite("many pictures")) {
  const Wedge wedge;
  const auto spread_of = [&](const Numbers& band, const Numbers& second) {
    const Target target = taught(wedge.picture(1), corner_of(band, second), {120, 90, 160, 180});
    const Image<float> picture = wedge.exact();
    render::Random random(31);
    constexpr int runs = sanitized ? 4 : 150;
    int within = 0;
    double sigma = 0, squares = 0, turns = 0;
    for (int i = 0; i < runs; ++i) {
      const FindResult found = find(target, PreparedPicture(render::expose(picture, {.sigma = 2}, random)));
      REQUIRE(found.detections.size() == 1);
      const Detection& s = found.detections[0];
      within += std::abs(s.x - wedge.at.x) < 2 * *s.sigma.x;
      turns += std::abs(s.angle.degrees()) < 3 * std::sqrt(2.0) * s.sigma.angle->degrees();
      sigma += *s.sigma.x / runs, squares += (s.x - wedge.at.x) * (s.x - wedge.at.x) / runs;
    }
    MESSAGE("told " << sigma << ", rms " << std::sqrt(squares) << ", within two sigma "
                    << 100.0 * within / runs);
    if (!sanitized) {
      CHECK(within > 0.9 * runs);
      CHECK(turns > 0.95 * runs);
    }
    return sigma;
  };
  const double near = spread_of(left_side, upper_side),
               far = spread_of({150, 220, 40, 60, 0}, {250, 120, 40, 60, 90});
  CHECK(far > 1.3 * near);
}

TEST_CASE("a ring tells how often it repeats, some of it hidden or not") {
  for (const int teeth : {3, 8, 12, 25}) {
    const Settings ring{{"arc", Numbers{150, 150, 80, 110, 20, 360}}, {"order", std::string("all")}};
    for (const double hidden : {0.0, 80.0}) {
      const Image<uint8_t> picture = toothed(teeth, 7.5, hidden);
      const Target target = taught(picture, ring, {20, 20, 260, 260});
      const FindResult found = find(target, PreparedPicture(Image<uint8_t>(picture)));
      REQUIRE(!found.detections.empty());
      CHECK(*found.detections[0].measurement("repeats") == teeth);
      if (hidden == 0) CHECK(found.detections.size() == static_cast<size_t>(2 * teeth));
    }
  }
  // One notch alone does not repeat, and an arc that is no ring has no repeats.
  const Image<uint8_t> notch = toothed(1, 0, 0, 0.1);
  const Settings ring{{"arc", Numbers{150, 150, 80, 110, 90, 360}}, {"order", std::string("all")}};
  const FindResult found =
      find(taught(notch, ring, {20, 20, 260, 260}), PreparedPicture(Image<uint8_t>(notch)));
  REQUIRE(found.detections.size() == 2);
  CHECK(*found.detections[0].measurement("repeats") == 1);
  const Settings half{{"arc", Numbers{150, 150, 80, 110, -90, 180}}, {"order", std::string("all")}};
  CHECK_FALSE(find(taught(notch, half, {20, 20, 260, 260}), PreparedPicture(Image<uint8_t>(notch)))
                  .detections[0]
                  .measurement("repeats"));
}

TEST_CASE("circles and corners that cannot be are refused in words") {
  const Image<uint8_t> disc = Disc().picture(1), wedge = Wedge().picture(1);
  const auto refused = [](const Image<uint8_t>& picture, const Settings& settings) {
    return error_of([&] { taught(picture, settings); });
  };
  CHECK(contains(refused(disc, circle_of({160, 140, 10, 30, 0, 360})), "no circle is met"));
  CHECK(contains(refused(disc, circle_of({160, 140, 40, 200, 0, 360})), "reaches outside the picture"));
  CHECK(contains(refused(disc, {{"fit", std::string("circle")}, {"band", left_side}}), "along an arc"));
  CHECK(
      contains(refused(wedge, {{"fit", std::string("corner")}, {"band", left_side}}), "--band and --second"));
  CHECK(contains(refused(wedge, corner_of(left_side, {150, 220, 40, 40, 0})), "parallel"));
  Settings all = corner_of(left_side, upper_side);
  all["order"] = std::string("all");
  CHECK(contains(refused(wedge, all), "order"));
  // A blank picture: neither is found, with the band's reason.
  const Target corner = taught(wedge, corner_of(left_side, upper_side));
  const FindResult none = find(corner, PreparedPicture(Image<uint8_t>(320, 280)));
  CHECK(none.detections.empty());
  REQUIRE(none.misses.size() == 1);
  CHECK(none.misses[0].reasons[0].name == "contrast");
  CHECK(none.misses[0].reasons[0].value == doctest::Approx(0));
}

TEST_CASE("shading, and round things beside the arc's centre, are no circles") {
  const Disc plate;
  const Target target = taught(plate.picture(1), circle_of({160, 140, 40, 100, 0, 360}));
  // A soft dark spot about the centre, as deep as an edge must be.
  Image<float> shade(320, 280);
  for (int y = 0; y < shade.height(); ++y)
    for (int x = 0; x < shade.width(); ++x) {
      const double away = distance({static_cast<double>(x), static_cast<double>(y)}, {163, 138}) / 70;
      shade(x, y) = static_cast<float>(150 - 60 * (1 - std::min(1.0, away * away)));
    }
  render::Random random(4);
  CHECK(find(target, PreparedPicture(render::expose(shade, {.sigma = 2}, random))).detections.empty());
  // A small disc inside the ring, which scans meet twice.
  Disc beside = plate;
  beside.centre = {160 + 68, 140}, beside.radius = 20;
  const FindResult none = find(target, PreparedPicture(beside.picture(3)));
  CHECK(none.detections.empty());
  CHECK_FALSE(none.misses.empty());
}

TEST_CASE("a notch's angle is that of its straight edge, and its sigma holds") {
  // Before, 0.057 degrees beside it: a straight edge across a ring is no line over the angle.
  constexpr double radius = 60, wide = 24, inner = 44, outer = 56;
  const double edge = radians(std::asin(0.5 * wide / (0.5 * (inner + outer)))).degrees();
  constexpr int side = 200, runs = sanitized ? 4 : 60;
  const auto shot = [&](Point2 at, Angle turned, uint64_t seed) {
    constexpr double middle = (side - 1) / 2.0;
    render::Scene scene;
    scene.camera = render::straight_camera(side, side, 1);
    scene.width = scene.height = side;
    const Pose2 pose{at.x - middle, middle - at.y, -turned};
    scene.pieces = {{render::disc(radius), pose, 0.65},
                    {render::rectangle(40, wide, {radius, 0}), pose, scene.background}};
    render::Random random(seed);
    return render::expose(render::exact_picture(scene), {.sigma = 2}, random);
  };
  int within = 0;
  double sum = 0;
  render::Random random(3);
  for (int i = 0; i < runs; ++i) {
    const Point2 at{100 + random.uniform(-3, 3), 100 + random.uniform(-3, 3)};
    const Angle turned = degrees(random.uniform(-180, 180));
    const Target target = teach_target(
        "edge",
        {.grey = shot(at, turned, 1), .region = Region::rectangle(at, 2 * radius + 8, 2 * radius + 8, {})},
        {.name = "notch",
         .settings = {{"arc", std::vector<double>{at.x, at.y, inner, outer, 0, 360}},
                      {"change", std::string("rising")}}});
    const FindResult found = find(target, PreparedPicture(shot(at, turned, 100 + static_cast<uint64_t>(i))));
    REQUIRE(found.detections.size() == 1);
    const Detection& s = found.detections[0];
    const double off = std::remainder(s.angle.degrees() - turned.degrees() - edge, 360.0);
    sum += off, within += std::abs(off) < 2 * s.sigma.angle->degrees();
  }
  if (sanitized) return;  // too few to judge; the plain build does
  CHECK(std::abs(sum / runs) < 0.015);
  CHECK(within >= 0.9 * runs);
}
