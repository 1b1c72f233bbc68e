#include <doctest/doctest.h>

#include "geometry/least_squares.hpp"
#include "geometry/linear.hpp"
#include "heron/base/error.hpp"
#include "heron/geometry/camera_model.hpp"
#include "heron/geometry/plane_mapping.hpp"
#include "heron/geometry/rigid_fit.hpp"
#include "heron/render/random.hpp"
#include "heron/render/tray_station.hpp"

using namespace heron;

TEST_CASE("a homography is found again from its points") {
  Homography truth;
  truth << 4.1, 0.2, 100, -0.3, -3.9, 900, 1e-4, -2e-4, 1;
  std::vector<Point2> from{{0, 0}, {200, 0}, {0, 150}, {210, 160}, {90, 40}}, to;
  for (Point2 p : from) to.push_back(apply(truth, p));
  const auto h = homography_from_points(from, to);
  REQUIRE(h);
  CHECK((*h - truth).norm() < 1e-6);
  CHECK_FALSE(homography_from_points({{0, 0}, {1, 1}, {2, 2}, {3, 3}}, {{0, 0}, {1, 1}, {2, 2}, {3, 3}}));
  CHECK_FALSE(homography_from_points({{0, 0}, {1, 0}, {0, 1}}, {{0, 0}, {1, 0}, {0, 1}}));
}

TEST_CASE("the derivative of a homography is that of finite differences") {
  Homography h;
  h << 4.1, 0.2, 100, -0.3, -3.9, 900, 1e-4, -2e-4, 1;
  const Point2 p{120, 80};
  const Eigen::Matrix2d j = jacobian(h, p);
  const double e = 1e-5;
  const Point2 dx = (apply(h, {p.x + e, p.y}) - apply(h, {p.x - e, p.y})) / (2 * e);
  CHECK(j(0, 0) == doctest::Approx(dx.x).epsilon(1e-6));
  CHECK(j(1, 0) == doctest::Approx(dx.y).epsilon(1e-6));
}

TEST_CASE("the centre of a projected circle is the centroid of its projected outline's area") {
  Homography h;
  h << 3, 0.5, 50, 0.2, 2, 80, 2e-3, 1e-3, 1;
  const Point2 centre{30, 20};
  const double radius = 12;
  double area = 0, cx = 0, cy = 0;  // Green's theorem on a fine polygon
  const int n = 200000;
  Point2 a = apply(h, centre + Point2{radius, 0});
  for (int i = 1; i <= n; ++i) {
    const Point2 b = apply(h, centre + unit(degrees(360.0 * i / n)) * radius);
    const double c = cross(a, b);
    area += c / 2, cx += c * (a.x + b.x) / 6, cy += c * (a.y + b.y) / 6;
    a = b;
  }
  const Point2 found = projected_circle_centre(h, centre, radius);
  CHECK(distance(found, {cx / area, cy / area}) < 1e-5);
  CHECK(distance(found, apply(h, centre)) > 0.05);  // the correction matters here
}

TEST_CASE("a camera model looks back to where it projected from, with distortion") {
  CameraModel camera = render::camera_above(
      600, {.k1 = -0.12, .k2 = 0.05, .k3 = 0.01, .p1 = 1e-3, .p2 = -5e-4}, 12_deg, 40_deg, 5_deg);
  for (const Point2 p : {Point2{0, 0}, {100, 60}, {-150, 90}}) {
    const auto back = camera.plane_point(camera.project({p.x, p.y, 7}), 7);
    REQUIRE(back);
    CHECK(distance(*back, WorldPoint(p)) < 1e-9);
  }
}

TEST_CASE("least squares recovers parameters and honest sigmas") {
  // y = a exp(b t) with noise: over many draws the estimate scatters as its own covariance says.
  render::Random random(5);
  const double noise = 0.01;
  double squares = 0, predicted = 0;
  const int runs = 300;
  for (int run = 0; run < runs; ++run) {
    std::vector<double> t, y;
    for (int i = 0; i < 30; ++i)
      t.push_back(0.1 * i), y.push_back(2 * std::exp(-0.7 * t.back()) + noise * random.normal());
    const LeastSquaresFit fit = solve_least_squares(
        [&](const Eigen::VectorXd& x, Eigen::VectorXd& r) {
          for (size_t i = 0; i < t.size(); ++i)
            r[static_cast<Eigen::Index>(i)] = y[i] - x[0] * std::exp(x[1] * t[i]);
        },
        Eigen::Vector2d(1, 0), 30);
    REQUIRE(fit.determined);
    squares += std::pow(fit.x[1] + 0.7, 2);
    predicted += fit.unit_covariance(1, 1) * fit.sigma * fit.sigma;
  }
  CHECK(std::sqrt(squares / predicted) == doctest::Approx(1).epsilon(0.12));
}

TEST_CASE("parameters that the data do not fix are told") {
  const LeastSquaresFit fit = solve_least_squares(
      [](const Eigen::VectorXd& x, Eigen::VectorXd& r) {
        for (int i = 0; i < 5; ++i) r[i] = x[0] + x[1] - i;
      },
      Eigen::Vector2d(0, 0), 5);
  CHECK_FALSE(fit.determined);
}

TEST_CASE("a plane mapping carries angles and refuses the horizon") {
  Homography pixel_from_world;
  pixel_from_world << 4, 0, 600, 0, -4, 500, 0, 1e-3, 1;  // y down: the world seen from above
  const PlaneMapping mapping(pixel_from_world);
  const WorldPose pose = mapping.world_pose(mapping.pixel_from_world({20, 30}), degrees(-90));
  CHECK(Mapping(mapping).world_angle(mapping.pixel_from_world({20, 30}), degrees(-90)) == pose.angle);
  CHECK(pose.x_mm == doctest::Approx(20));
  CHECK(pose.y_mm == doctest::Approx(30));
  // Straight up in the picture, left of the vanishing point's column or on it: the world direction follows
  // the derivative.
  const Point2 ahead =
      (mapping.world_from_pixel(mapping.pixel_from_world({20, 30}) + Point2{0, -1e-4}) - WorldPoint{20, 30})
          .plain();
  CHECK(pose.angle.degrees() == doctest::Approx(direction(ahead).degrees()).epsilon(1e-6));
  CHECK_THROWS_AS(mapping.world_from_pixel({0, -4000}), Error);
  CHECK_THROWS_AS(PlaneMapping(Homography::Zero()), Error);
}

TEST_CASE("touched points give the frame, and say what is wrong with them") {
  const Pose2 truth{420, -180, 77_deg};
  std::vector<Point2> board{{0, 0}, {216, 0}, {216, 180}, {0, 180}}, robot;
  for (Point2 p : board) robot.push_back(truth * p);
  const RigidFit fit = fit_rigid(board, robot);
  CHECK(fit.target_from_source.x == doctest::Approx(420));
  CHECK(fit.target_from_source.angle.degrees() == doctest::Approx(77));
  CHECK(fit.rms_mm < 1e-9);

  CHECK_THROWS_WITH_AS(fit_rigid({{0, 0}, {1, 0}}, {{0, 0}, {1, 0}}), doctest::Contains("three or more"),
                       Error);
  CHECK_THROWS_WITH_AS(fit_rigid({{0, 0}, {1, 0}, {2, 0}}, {{0, 0}, {1, 0}, {2, 0}}),
                       doctest::Contains("one line"), Error);
  std::vector<Point2> swapped, inches;
  for (Point2 p : robot) swapped.push_back({p.y, p.x}), inches.push_back(p / 25.4);
  CHECK_THROWS_WITH_AS(fit_rigid(board, swapped), doctest::Contains("mirrored"), Error);
  CHECK_THROWS_WITH_AS(fit_rigid(board, inches), doctest::Contains("factor"), Error);
}

TEST_CASE("a homography's elements, there and back, and how a pixel follows them") {
  Homography h;
  h << 3.1, -0.2, 400, 0.4, -2.9, 300, 1e-4, -2e-4, 1;
  CHECK(homography_of(elements_of(h)) == h);
  for (const Point2 p : {Point2{0, 0}, Point2{120, -45}, Point2{-300, 210}}) {
    const auto by = derivative_by_elements(h, p);
    for (int k = 0; k < 8; ++k) {
      auto up = elements_of(h), down = up;
      const double step = 1e-6 * std::max(1.0, std::abs(up[k])) * (k >= 6 ? 1e-3 : 1);
      up[k] += step, down[k] -= step;
      const Point2 slope = (apply(homography_of(up), p) - apply(homography_of(down), p)) / (2 * step);
      CHECK(by(0, k) == doctest::Approx(slope.x).epsilon(1e-5));
      CHECK(by(1, k) == doctest::Approx(slope.y).epsilon(1e-5));
    }
  }
}

TEST_CASE("the nearest rotation: itself, through noise, and never a mirror") {
  render::Random random(11);
  const auto any = [&] { return Eigen::Vector3d(random.normal(), random.normal(), random.normal()); };
  for (int run = 0; run < 50; ++run) {
    const Eigen::Matrix3d r = turn_of(any()).toRotationMatrix();
    CHECK((nearest_rotation(2.5 * r) - r).norm() < 1e-9);
    Eigen::Matrix3d noisy = r;
    for (int k = 0; k < 9; ++k) noisy(k / 3, k % 3) += 0.2 * random.normal();
    const Eigen::Matrix3d near = nearest_rotation(noisy);
    CHECK((near * near.transpose() - Eigen::Matrix3d::Identity()).norm() < 1e-9);
    CHECK(near.determinant() == doctest::Approx(1));
    // None that is turned a little further is nearer.
    for (int k = 0; k < 3; ++k)
      for (const double step : {-1e-3, 1e-3}) {
        const Eigen::Vector3d turn = step * Eigen::Vector3d::Unit(k);
        CHECK((noisy - near).norm() <= (noisy - turn_of(turn).toRotationMatrix() * near).norm() + 1e-12);
      }
  }
  CHECK(nearest_rotation(Eigen::Vector3d(1, 1, -1).asDiagonal()).determinant() == doctest::Approx(1));
}
