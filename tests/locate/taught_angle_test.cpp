#include <doctest/doctest.h>

#include "heron/locate/pattern.hpp"
#include "heron/locate/prepared_picture.hpp"
#include "heron/render/outline.hpp"
#include "heron/render/studio_views.hpp"
#include "locate/pattern/grey/same_phase.hpp"
#include "sanitized.hpp"

using namespace heron;
using namespace heron::render;

namespace {

constexpr int side = 300;
constexpr double middle = (side - 1) / 2.0;

/// A plate with a notch, its edges along the pixels' rows and columns, at `pixel`, turned by quarter turns.
Image<uint8_t> plate_at(Point2 pixel, Angle angle, double noise, Random& random) {
  Scene scene;
  scene.camera = straight_camera(side, side, 1);
  scene.width = scene.height = side;
  const Pose2 pose{pixel.x - middle, middle - pixel.y, -angle};
  scene.pieces = {{rectangle(160, 104), pose, 0.62}, {rectangle(36, 24, {48, 24}), pose, 0.2}};
  return expose(exact_picture(scene), {.sigma = noise}, random);
}

struct Tally {
  int finds = 0, within_two = 0;
  double squares = 0;
  void add(double error, double sigma) {
    ++finds, squares += error * error, within_two += std::abs(error) < 2 * sigma;
  }
  double rms() const { return std::sqrt(squares / finds); }
  double share() const { return 100.0 * within_two / finds; }
};

}  // namespace

TEST_CASE("a part at its taught angle is not biased by its sub-pixel offset, and its sigma holds there" *
          doctest::test_suite("many pictures")) {
  // Before, the rms was 0.011 px at noise 2 and at noise 0.7 alike, and 65 and 37 % lay within two sigmas.
  for (const auto& [noise, inversion, max_rms] : {std::tuple{2.0, Inversion::none, 0.0065},
                                                  {0.7, Inversion::none, 0.004},
                                                  {2.0, Inversion::local, 0.035}}) {
    Random random(31);
    Tally tally;
    for (int run = 0; run < (sanitized ? 6 : 60); ++run) {
      const auto place = [&] {
        return Point2{middle + random.uniform(-3, 3), middle + random.uniform(-3, 3)};
      };
      const Point2 taught = place(), there = place();
      const Angle angle = degrees(90.0 * random.whole(0, 3));
      const PatternTarget target = teach_pattern(plate_at(taught, {}, noise, random),
                                                 Region::rectangle(taught, 200, 148, {}), {.origin = taught});
      const FindResult f = find(target, PreparedPicture(plate_at(there, angle, noise, random)),
                                {.inversion = inversion}, Explain::never);
      REQUIRE(f.detections.size() == 1);
      const Detection& s = f.detections[0];
      CHECK(std::abs((s.angle - angle).wrapped().degrees()) < 0.1);
      tally.add(s.x - there.x, *s.sigma.x), tally.add(s.y - there.y, *s.sigma.y);
    }
    if (sanitized) continue;
    CAPTURE(noise);
    CHECK(tally.rms() < max_rms);
    CHECK(tally.share() > 88);  // of 120; 95 are promised
  }
}

TEST_CASE("taught edges lie on the edge, at angles at which all pixels along it lie alike as well") {
  // Before, they lay 0.17 px beside it at 45 degrees and 0.11 px at the slope of 1 in 2.
  Random random(61);
  for (const double turn : {0.0, 10.0, 26.565, 33.0, 44.0, 45.0, 135.0})
    for (int run = 0; run < (sanitized ? 1 : 4); ++run) {
      const Angle angle = degrees(turn);
      const Point2 at{middle + random.uniform(-2, 2), middle + random.uniform(-2, 2)};
      const PatternTarget target = teach_pattern(plate_at(at, angle, 0.3, random),
                                                 Region::rectangle(at, 200, 148, angle), {.origin = at});
      for (const double side_of : {-1.0, 1.0}) {
        double off = 0, count = 0;
        for (const TaughtEdge& e : target.edges()) {
          const Point2 place = rotated(e.place, -angle);
          if (std::abs(place.y - side_of * 52) < 2 && std::abs(place.x) < 70)
            off += place.y - side_of * 52, ++count;
        }
        CAPTURE(turn);
        CAPTURE(count);
        REQUIRE(count > 60);
        CHECK(std::abs(off / count) < 0.015);
      }
    }
}

TEST_CASE("pixels share a phase near quarter turns and the taught scale, and nowhere else") {
  CHECK(share_a_phase({0, 0, 0_deg, 1}, 100));
  CHECK(share_a_phase({3, 4, 180_deg, 1}, 100));
  CHECK(share_a_phase({3, 4, degrees(-90.5), 1.005}, 100));
  CHECK_FALSE(share_a_phase({0, 0, 45_deg, 1}, 100));
  CHECK_FALSE(share_a_phase({0, 0, 3_deg, 1}, 100));
  CHECK_FALSE(share_a_phase({0, 0, 0_deg, 1.1}, 100));
  CHECK(share_a_phase({0, 0, 3_deg, 1}, 20));  // a small part turns by less than two pixels
}
