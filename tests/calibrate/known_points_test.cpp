#include <doctest/doctest.h>

#include "heron/base/error.hpp"
#include "heron/calibrate/known_length.hpp"
#include "heron/calibrate/known_points.hpp"
#include "heron/render/tray_station.hpp"

using namespace heron;
using namespace heron::render;

namespace {

std::vector<KnownPair> pairs_of(const CameraModel& camera, int count, double noise_px, Random& random) {
  std::vector<KnownPair> pairs;
  for (int k = 0; k < count; ++k) {
    // Spread over the plane in a ring and its middle, so that no three lie on a line.
    const Point2 p = unit(radians(2.4 * k)) * (k == 0 ? 5.0 : 60.0 + 9 * k);
    pairs.push_back(
        {camera.project({p.x, p.y, 0}) + Point2{noise_px * random.normal(), noise_px * random.normal()},
         WorldPoint(p)});
  }
  return pairs;
}

double worst_mm(const PlaneMapping& mapping, const CameraModel& camera) {
  double worst = 0;
  for (const Point2 p : {Point2{0, 0}, {60, 20}, {-50, 40}, {10, -60}})
    worst = std::max(worst, distance(mapping.world_from_pixel(camera.project({p.x, p.y, 0})), WorldPoint(p)));
  return worst;
}

}  // namespace

TEST_CASE("the model follows the view: square, slightly oblique with few points, oblique") {
  Random random(1);
  const Lens lens{.fx = 2400, .fy = 2400};
  const CameraModel square = camera_above(600, lens, {}, {}, 20_deg),
                    oblique = camera_above(600, lens, 20_deg, 30_deg);
  const auto of = [&](const CameraModel& c, int count) {
    return calibrate_known_points(pairs_of(c, count, 0.1, random), 1280, 1024,
                                  {.left_handed = count == 2 ? std::optional(false) : std::nullopt});
  };
  CHECK(of(square, 2).model == PlaneModel::similarity);
  CHECK(of(square, 6).model == PlaneModel::similarity);
  const KnownPointsCalibration four = of(oblique, 4), nine = of(oblique, 9);
  CHECK(four.model == PlaneModel::homography);
  CHECK(nine.model == PlaneModel::homography);
  CHECK(worst_mm(nine.plane.mapping, oblique) < 0.1);
  CHECK(worst_mm(four.plane.mapping, oblique) < 0.3);
  CHECK(worst_mm(of(square, 6).plane.mapping, square) < 0.06);
  CHECK_FALSE(nine.left_handed);
  CHECK(*nine.plane.mapping.world_pose({640, 512}, {}).sigma.x > 0.002);
  // Forced, a similarity shows what it leaves.
  CHECK(calibrate_known_points(pairs_of(oblique, 9, 0.1, random), 1280, 1024,
                               {.model = PlaneModel::affine, .tolerance_px = 20})
            .plane.rms_px > 2);
}

TEST_CASE("one wrong pair is named, left out, and its distance told") {
  Random random(2);
  const Lens lens{.fx = 2400, .fy = 2400};
  for (const double tilt : {0.0, 25.0})
    for (const size_t wrong : {size_t{0}, size_t{3}, size_t{7}}) {
      CAPTURE(tilt);
      CAPTURE(wrong);
      const CameraModel camera = camera_above(600, lens, degrees(tilt), 30_deg);
      std::vector<KnownPair> pairs = pairs_of(camera, 8, 0.1, random);
      pairs[wrong].world_mm = pairs[wrong].world_mm + WorldPoint{9, -4};
      const KnownPointsCalibration c = calibrate_known_points(pairs, 1280, 1024);
      REQUIRE(c.wrong);
      CHECK_FALSE(c.fits);
      CHECK(c.others_fit);
      CHECK(*c.wrong == wrong);
      CHECK(c.wrong_mm == doctest::Approx(std::hypot(9, 4)).epsilon(0.05));
      CHECK(worst_mm(c.plane.mapping, camera) < 0.15);
    }
}

TEST_CASE("known points: machines with left-handed axes, and input that determines nothing") {
  Random random(3);
  const CameraModel camera = camera_above(600, {.fx = 2400, .fy = 2400});
  std::vector<KnownPair> pairs = pairs_of(camera, 6, 0.1, random);
  for (KnownPair& p : pairs) p.world_mm.y = -p.world_mm.y;
  CHECK(calibrate_known_points(pairs, 1280, 1024).left_handed);
  for (KnownPair& p : pairs) p.world_mm.y = -p.world_mm.y;
  const auto error = [](const std::vector<KnownPair>& p, KnownPointsOptions o = {}) {
    try {
      calibrate_known_points(p, 1280, 1024, o);
    } catch (const Error& e) {
      return std::string(e.what());
    }
    return std::string();
  };
  CHECK(error({pairs[0]}).find("at least 2") != std::string::npos);
  CHECK(error({pairs[0], pairs[1], pairs[2]}, {.model = PlaneModel::homography}).find("at least 4") !=
        std::string::npos);
  CHECK(error({pairs[0], pairs[1], pairs[0]}).find("pairs 1 and 3 hold the same pixel") != std::string::npos);
  std::vector<KnownPair> line;
  for (int i = 0; i < 5; ++i) line.push_back({{100.0 * i, 50}, {10.0 * i, 3}});
  CHECK(error(line, {.model = PlaneModel::affine}).find("one line") != std::string::npos);
  std::vector<KnownPair> mixed = pairs;
  for (size_t i = 0; i < mixed.size(); ++i) mixed[i].world_mm = pairs[(i + 2) % mixed.size()].world_mm;
  const KnownPointsCalibration none = calibrate_known_points(mixed, 1280, 1024);
  CHECK_FALSE(none.fits);
  CHECK(none.wrong.has_value());
  CHECK_FALSE(none.others_fit);
  pairs[1].pixel.x = NAN;
  CHECK(error(pairs).find("not finite") != std::string::npos);
}

TEST_CASE("which way Y grows is asked for where two points, or points on one line, do not tell") {
  const std::vector<KnownPair> two{{{100, 100}, {0, 0}}, {{1100, 100}, {250, 0}}};
  std::vector<KnownPair> line = two;
  line.push_back({{600, 100}, {125, 0}});
  for (const auto& pairs : {two, line}) {
    CHECK_THROWS_WITH_AS(calibrate_known_points(pairs, 1280, 1024), doctest::Contains("--handed"), Error);
    // The picture's y points down, so further down lies below the line of a right-handed frame.
    for (const bool left : {false, true}) {
      const KnownPointsCalibration c = calibrate_known_points(pairs, 1280, 1024, {.left_handed = left});
      CHECK(c.left_handed == left);
      CHECK(c.plane.mapping.world_from_pixel({100, 500}).y == doctest::Approx(left ? 100 : -100));
    }
  }
}

TEST_CASE("four pairs in a wrong order are refused where they look at the plane from behind") {
  const std::vector<KnownPair> crossed{
      {{100, 100}, {0, 200}}, {{1100, 100}, {250, 200}}, {{1100, 900}, {0, 0}}, {{100, 900}, {250, 0}}};
  CHECK_THROWS_WITH_AS(calibrate_known_points(crossed, 1280, 1024), doctest::Contains("other side"), Error);
}

TEST_CASE("one length gives millimetres a pixel; at a known distance it gives the camera") {
  const KnownLength length{.from = {300, 500}, .to = {700, 500}, .length_mm = 100};
  const PlaneMapping plane = mapping_of_length(length, 1280, 1024);
  CHECK(plane.mm_per_pixel({10, 10}) == doctest::Approx(0.25));
  const WorldPose p = plane.world_pose({639.5 + 400, 511.5 - 200}, 90_deg);
  CHECK(p.x_mm == doctest::Approx(100));
  CHECK(p.y_mm == doctest::Approx(50));
  CHECK(p.angle.degrees() == doctest::Approx(-90));
  CHECK(*p.sigma.x == doctest::Approx(100 * std::sqrt(2.0) * 0.5 / 400).epsilon(1e-6));
  CHECK(*plane.world_pose({639.5, 511.5}, {}).sigma.x < 1e-9);

  const CameraMapping camera = camera_of_length_at(length, 600, 3, 1280, 1024);
  CHECK(camera.camera().lens.fx == doctest::Approx(2400));
  CHECK(distance(camera.world_from_pixel({639.5 + 400, 511.5}, 0), WorldPoint{100, 0}) < 1e-9);
  CHECK(distance(camera.world_from_pixel({639.5 + 400, 511.5}, 60), WorldPoint{90, 0}) < 1e-9);
  // On the taught plane only the scale's sigma counts, above it those of distance and axis as well.
  CHECK(*camera.world_pose({639.5, 511.5}, {}, exact_pose, 0).sigma.x < 1e-6);
  CHECK(*camera.world_pose({639.5, 511.5}, {}, exact_pose, 60).sigma.x ==
        doctest::Approx(0.02 * 1280 / 2400 * 60).epsilon(0.01));
  CHECK(*camera.world_pose({639.5 + 400, 511.5}, {}, exact_pose, 0).sigma.x ==
        doctest::Approx(100 * std::sqrt(2.0) * 0.5 / 400).epsilon(0.01));
  const WidthDistance d =
      camera.distance_of_width({1000, 200}, {1000, 400}, 100, WidthLies::across_axis, 0.5);
  CHECK(d.along_axis_mm == doctest::Approx(1200));
  CHECK(d.along_ray_mm > d.along_axis_mm);
  CHECK(d.bearing.degrees() == doctest::Approx(radians(std::atan(360.5 / 2400)).degrees()));
  CHECK(d.elevation.degrees() > 0);
  CHECK(d.sigma_axis_mm > 5);
  CHECK_THROWS_AS(mapping_of_length({.from = {1, 1}, .to = {1, 1}, .length_mm = 5}, 100, 100), Error);
  CHECK_THROWS_AS(mapping_of_length({.from = {1, 1}, .to = {50, 1}, .length_mm = -5}, 100, 100), Error);
  CHECK_THROWS_AS(camera_of_length_at(length, 0, 0, 1280, 1024), Error);
  CHECK_THROWS_AS(camera.distance_of_width({5, 5}, {5, 5}, 10), Error);
}
