#include <doctest/doctest.h>

#include "heron/base/pose.hpp"
#include "heron/base/pose3.hpp"
#include "heron/base/range.hpp"

using namespace heron;

TEST_CASE("an angle wraps into (-180, 180] degrees") {
  CHECK(degrees(190).wrapped().degrees() == doctest::Approx(-170));
  CHECK(degrees(-180).wrapped().degrees() == doctest::Approx(180));
  CHECK(degrees(720.5).wrapped().degrees() == doctest::Approx(0.5));
  CHECK((90_deg).radians() == doctest::Approx(std::numbers::pi / 2));
}

TEST_CASE("a range of angles holds them whatever whole turns are added") {
  const Range<Angle> across{170_deg, 190_deg};
  CHECK(contains_turned(across, degrees(-175)));
  CHECK(contains_turned(across, degrees(170)));
  CHECK(contains_turned(across, degrees(-170)));
  CHECK_FALSE(contains_turned(across, degrees(-169.9)));
  CHECK(contains_turned(full_turn, degrees(1234)));
  CHECK(contains_turned({5_deg, 5_deg}, 5_deg));
  CHECK_FALSE(contains_turned({5_deg, 5_deg}, degrees(5.001)));
}

TEST_CASE("swapped and endless ranges are refused with the right order in the message") {
  CHECK_THROWS_WITH_AS(require_ordered(Range<double>{1.2, 0.8}, "scale"),
                       "scale 1.2..0.8: the ends are swapped; the smaller comes first, 0.8..1.2", Error);
  CHECK_THROWS_AS(require_ordered(Range<double>{0, INFINITY}, "scale"), Error);
  CHECK_THROWS_AS(require_ordered(Range<double>{NAN, 1}, "scale"), Error);
}

TEST_CASE("poses chain and come back") {
  const Pose2 robot_from_world{100, -50, 30_deg}, world_from_part{7, 9, 80_deg};
  const Pose2 robot_from_part = robot_from_world * world_from_part;
  CHECK(robot_from_part.angle.degrees() == doctest::Approx(110));
  const Point2 p{3, 4}, direct = robot_from_world * (world_from_part * p), chained = robot_from_part * p;
  CHECK(distance(direct, chained) < 1e-12);
  CHECK(distance(robot_from_part.inverse() * chained, p) < 1e-12);

  const Similarity2 s{5, 6, 40_deg, 1.5};
  CHECK(distance(s.inverse() * (s * p), p) < 1e-12);
  CHECK(norm(s * p - s * Point2{}) == doctest::Approx(1.5 * 5));

  const Pose3 a{Eigen::Quaterniond(Eigen::AngleAxisd(0.3, Eigen::Vector3d(1, 2, 3).normalized())), {1, 2, 3}};
  const Eigen::Vector3d q(4, 5, 6);
  CHECK(((a.inverse() * a) * q - q).norm() < 1e-12);
}
