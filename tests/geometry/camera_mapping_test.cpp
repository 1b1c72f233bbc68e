#include <doctest/doctest.h>

#include <cmath>

#include "geometry/linear.hpp"
#include "heron/base/error.hpp"
#include "heron/geometry/mapping.hpp"
#include "heron/render/random.hpp"
#include "heron/render/tray_station.hpp"

using namespace heron;
using namespace heron::render;

namespace {
const Lens bent{.fx = 1900,
                .fy = 1905,
                .cx = 640,
                .cy = 500,
                .k1 = -0.2,
                .k2 = 0.1,
                .k3 = 0.05,
                .p1 = 0.001,
                .p2 = -0.0008};
}

TEST_CASE("a ray leads back to its pixel, and where the lens folds the picture there is none") {
  for (double v = 0; v < 1024; v += 73)
    for (double u = 0; u < 1280; u += 91) {
      const auto ray = ray_of(bent, {u, v});
      REQUIRE(ray);
      CHECK(distance(project(bent, *ray * 500), {u, v}) < 1e-9);
    }
  CHECK_FALSE(ray_of({.fx = 400, .fy = 400, .k1 = -0.4}, {1279, 1023}));
}

TEST_CASE("derivatives of a projection agree with differences") {
  const Eigen::Vector3d point(60, -45, 420);
  ProjectionDerivative d;
  project(bent, point, &d);
  for (int k = 0; k < 9; ++k) {
    const double step = k < 4 ? 1e-3 : 1e-6;
    const LensVector up = vector_of(bent) + LensVector::Unit(k) * step,
                     down = vector_of(bent) - LensVector::Unit(k) * step;
    const Point2 slope = (project(lens_of(up), point) - project(lens_of(down), point)) / (2 * step);
    CHECK(d.by_lens(0, k) == doctest::Approx(slope.x).epsilon(1e-6));
    CHECK(d.by_lens(1, k) == doctest::Approx(slope.y).epsilon(1e-6));
  }
  for (int k = 0; k < 3; ++k) {
    const Eigen::Vector3d step = Eigen::Vector3d::Unit(k) * 1e-3;
    const Point2 slope = (project(bent, point + step) - project(bent, point - step)) / 2e-3;
    CHECK(d.by_point(0, k) == doctest::Approx(slope.x).epsilon(1e-6));
    CHECK(d.by_point(1, k) == doctest::Approx(slope.y).epsilon(1e-6));
  }
}

TEST_CASE("a camera mapping's sigmas are those of cameras drawn from its covariance") {
  const CameraModel camera = camera_above(500, bent, 12_deg, 70_deg, 20_deg);
  CameraMapping::Covariance c = CameraMapping::Covariance::Zero();
  c.diagonal() << 4, 4, 1, 1, 1e-6, 1e-5, 1e-9, 1e-9, 0, 1e-8, 1e-8, 1e-8, 0.01, 0.01, 0.04;
  const CameraMapping mapping(camera, c);
  Random random(3);
  for (const double height : {0.0, 25.0}) {
    const Point2 pixel{1100, 200};
    const WorldPose p = mapping.world_pose(pixel, 30_deg, {0.1, 0.2, 0.05_deg, 0}, height);
    const int runs = 3000;
    double xx = 0, yy = 0, aa = 0;
    for (int run = 0; run < runs; ++run) {
      Eigen::Matrix<double, 15, 1> change;
      for (int k = 0; k < 15; ++k) change[k] = std::sqrt(c(k, k)) * random.normal();
      const CameraMapping other(mapping.changed(change));
      const WorldPose q = other.world_pose(pixel + Point2{0.1 * random.normal(), 0.2 * random.normal()},
                                           degrees(30 + 0.05 * random.normal()), {}, height);
      xx += std::pow(q.x_mm - p.x_mm, 2), yy += std::pow(q.y_mm - p.y_mm, 2),
          aa += std::pow((q.angle - p.angle).wrapped().radians(), 2);
    }
    CHECK(*p.sigma.x == doctest::Approx(std::sqrt(xx / runs)).epsilon(0.06));
    CHECK(*p.sigma.y == doctest::Approx(std::sqrt(yy / runs)).epsilon(0.06));
    CHECK(p.sigma.angle->radians() == doctest::Approx(std::sqrt(aa / runs)).epsilon(0.06));
  }
}

TEST_CASE("the sigma of a distance from a width is that of what goes into it") {
  CameraMapping::Covariance c = CameraMapping::Covariance::Zero();
  c(0, 0) = c(1, 1) = c(0, 1) = c(1, 0) = 19 * 19;  // one focal length, known to 1%
  const CameraMapping mapping({{.fx = 1900, .fy = 1900, .cx = 640, .cy = 512}, {}}, c);
  const WidthDistance d = mapping.distance_of_width({540, 512}, {740, 512}, 80);
  CHECK(d.along_axis_mm == doctest::Approx(760));
  CHECK(d.sigma_axis_mm == doctest::Approx(7.6).epsilon(0.01));
  CHECK(mapping.distance_of_width({540, 512}, {740, 512}, 80, WidthLies::across_axis, 0.5).sigma_axis_mm ==
        doctest::Approx(std::hypot(7.6, 760 * std::sqrt(2) * 0.5 / 200)).epsilon(0.01));
  CHECK_THROWS_AS(mapping.distance_of_width({1, 1}, {5, 5}, -3), Error);
  CHECK_THROWS_AS(mapping.distance_of_width({1, 1}, {5, 5}, NAN), Error);
}

TEST_CASE("a mapping is asked alike whatever it is made of; only a camera answers for heights") {
  const CameraModel camera = camera_above(500, {.fx = 2000, .fy = 2000}, 8_deg, 10_deg);
  std::vector<Point2> world, pixel;
  for (const Point2 p : {Point2{-50, -40}, {50, -40}, {50, 40}, {-50, 40}})
    world.push_back(p), pixel.push_back(camera.project({p.x, p.y, 0}));
  const Mapping plane = PlaneMapping(*homography_from_points(world, pixel)), full = CameraMapping(camera);
  for (const Point2 at : {Point2{640, 512}, {100, 900}}) {
    CHECK(distance(plane.world_from_pixel(at), full.world_from_pixel(at)) < 1e-6);
    CHECK(plane.mm_per_pixel(at) == doctest::Approx(full.mm_per_pixel(at)));
    CHECK(plane.world_pose(at, 40_deg).angle.degrees() ==
          doctest::Approx(full.world_pose(at, 40_deg).angle.degrees()));
  }
  CHECK_THROWS_WITH_AS(plane.world_from_pixel({1, 1}, 3), doctest::Contains("nothing is known of heights"),
                       Error);
  CHECK_THROWS_AS(plane.pixel_from_world({1, 1}, -3), Error);
  CHECK_THROWS_AS(full.pixel_from_world({0, 0}, 600), Error);  // behind the camera
  CHECK_THROWS_AS(full.world_from_pixel({640, 512}, 600), Error);
  CHECK(plane.plane());
  CHECK_FALSE(plane.camera());
  CHECK_THROWS_AS(CameraMapping(CameraModel{{.fx = 0}, {}}), Error);
  CHECK_THROWS_AS(CameraMapping(CameraModel{{.fx = NAN}, {}}), Error);
}

TEST_CASE("axes: each direction, both hands, and back") {
  const WorldPose p{.x_mm = 30, .y_mm = 10, .angle = WorldAngle{20_deg}, .sigma = {0.1, 0.2, {}, 0}};
  using enum AxisDirection;
  for (const AxisDirection x : {plus_x, minus_x, plus_y, minus_y})
    for (const AxisDirection y : {plus_x, minus_x, plus_y, minus_y}) {
      const Axes axes{{5, -5}, x, y};
      const bool along_x = x == plus_x || x == minus_x;
      if (along_x == (y == plus_x || y == minus_x)) {
        CHECK_THROWS_AS(axes.require_valid(), Error);
        continue;
      }
      axes.require_valid();
      const UserPose seen = axes.seen_from(p);
      CHECK(distance(axes.world_from_user(seen.position()), WorldPoint{30, 10}) < 1e-12);
      CHECK(*seen.sigma.x == (along_x ? 0.1 : 0.2));
      // A step along the part's direction is the same step in both.
      const WorldPoint ahead = axes.world_from_user(seen.position() + UserPoint(unit(seen.angle.turn())));
      CHECK(distance(ahead, WorldPoint{30, 10} + WorldPoint(unit(20_deg))) < 1e-12);
    }
  CHECK(Axes{}.right_handed());
  CHECK_FALSE((Axes{{}, plus_y, plus_x}.right_handed()));
}

TEST_CASE("dense algebra: what solves is solved, what does not is said") {
  Eigen::MatrixXd a(3, 3);
  a << 4, 1, 0, 1, 3, -1, 0, -1, 2;
  const Eigen::MatrixXd b = Eigen::MatrixXd::Identity(3, 2);
  CHECK((product(a, solve_symmetric(a, b)) - b).norm() < 1e-12);
  CHECK((product(a, *inverse_symmetric(a)) - Eigen::MatrixXd::Identity(3, 3)).norm() < 1e-12);
  const Eigen::MatrixXd w = whitener(a);
  CHECK((product(product(w, a), w.transpose()) - Eigen::MatrixXd::Identity(3, 3)).norm() < 1e-12);
  Eigen::MatrixXd singular = Eigen::MatrixXd::Ones(3, 3);
  CHECK_FALSE(inverse_symmetric(singular));
  Eigen::MatrixXd tall(4, 2);
  tall << 1, 1, 1, 2, 1, 3, 1, 4;
  const LinearLeastSquares line = least_squares(tall, Eigen::Vector4d(3, 5, 7, 9));
  CHECK(line.determined);
  CHECK(line.x[1] == doctest::Approx(2));
  CHECK(line.sum_of_squares < 1e-20);
  tall.col(1) = 1e6 * tall.col(0);
  CHECK_FALSE(least_squares(tall, Eigen::Vector4d(1, 2, 3, 4)).determined);
  const Eigen::Matrix3d turn = turn_of({0.3, -0.2, 0.9}).toRotationMatrix();
  CHECK((nearest_rotation(turn * 1.7 + Eigen::Matrix3d::Constant(1e-9)) - turn).norm() < 1e-6);
  CHECK((rotation_vector_of(turn_of({0.3, -0.2, 0.9})) - Eigen::Vector3d(0.3, -0.2, 0.9)).norm() < 1e-12);
  CHECK(rotation_vector_of(turn_of({0, 0, 0})).norm() == 0);
}
