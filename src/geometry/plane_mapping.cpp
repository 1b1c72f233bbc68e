#include "heron/geometry/plane_mapping.hpp"

#include <Eigen/LU>

#include "geometry/propagated.hpp"
#include "heron/base/error.hpp"

namespace heron {
namespace {

Angle mapped_angle(const Homography& world_from_pixel, Point2 pixel, Angle angle) {
  const Point2 d = unit(angle);
  const Eigen::Vector2d v = jacobian(world_from_pixel, pixel) * Eigen::Vector2d(d.x, d.y);
  return direction({v.x(), v.y()});
}

}  // namespace

PlaneMapping::PlaneMapping()
    : pixel_from_world_(Homography::Identity()),
      world_from_pixel_(Homography::Identity()),
      covariance_(Covariance::Zero()) {}

PlaneMapping::PlaneMapping(const Homography& pixel_from_world, const Covariance& covariance)
    : pixel_from_world_(pixel_from_world / pixel_from_world(2, 2)), covariance_(covariance) {
  if (!pixel_from_world_.allFinite())
    fail_argument("mapping: the homography holds numbers that are not finite, or ends in 0");
  if (std::abs(pixel_from_world_.determinant()) < 1e-15)
    fail_argument("mapping: the homography cannot be inverted; its points lie on one line");
  world_from_pixel_ = pixel_from_world_.inverse();
}

WorldPose PlaneMapping::world_pose(Point2 pixel, Angle angle, const PoseSigma& seen) const {
  const Point2 world = world_from_pixel(pixel).plain();
  const Eigen::Matrix2d world_by_pixel = jacobian(world_from_pixel_, pixel);
  const Angle turned = mapped_angle(world_from_pixel_, pixel, angle);

  // A change of the parameters moves the pixel of a fixed world point; the same pixel then reads the opposite
  // way.
  const Eigen::Matrix<double, 2, 8> by_parameters =
      -world_by_pixel * derivative_by_elements(pixel_from_world_, world);
  // For the angle, a second point one millimetre along it shows how the direction turns.
  const Point2 step = unit(turned), ahead{world.x + step.x, world.y + step.y};
  const Eigen::Matrix<double, 2, 8> by_parameters_ahead =
      -jacobian(world_from_pixel_, pixel_from_world(WorldPoint(ahead))) *
      derivative_by_elements(pixel_from_world_, ahead);
  const Eigen::RowVector2d across(-step.y, step.x);
  const Eigen::Matrix<double, 1, 8> turn_by_parameters = across * (by_parameters_ahead - by_parameters);

  Eigen::Matrix2d seen_xy = Eigen::Matrix2d::Zero();
  const double seen_x = seen.x.value_or(0), seen_y = seen.y.value_or(0),
               seen_turn = seen.angle.value_or(Angle{}).radians();
  seen_xy.diagonal() << seen_x * seen_x, seen_y * seen_y;
  const Eigen::Matrix2d xy = world_by_pixel * seen_xy * world_by_pixel.transpose() +
                             by_parameters * covariance_ * by_parameters.transpose();
  const double turn =
      seen_turn * seen_turn + (turn_by_parameters * covariance_ * turn_by_parameters.transpose())(0, 0);

  WorldPose pose;
  pose.x_mm = world.x, pose.y_mm = world.y;
  pose.angle = WorldAngle(turned.wrapped());
  const auto known = [&](int row) {
    return is_known(world_by_pixel(row, 0), world_by_pixel(row, 1), seen.x, seen.y);
  };
  if (known(0)) pose.sigma.x = std::sqrt(std::max(0.0, xy(0, 0)));
  if (known(1)) pose.sigma.y = std::sqrt(std::max(0.0, xy(1, 1)));
  if (seen.angle) pose.sigma.angle = radians(std::sqrt(std::max(0.0, turn)));
  return pose;
}

double PlaneMapping::mm_per_pixel(Point2 pixel) const {
  return std::sqrt(std::abs(jacobian(world_from_pixel_, pixel).determinant()));
}

}  // namespace heron
