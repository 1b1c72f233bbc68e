#include "heron/geometry/camera_mapping.hpp"

#include <fmt/format.h>

#include <Eigen/LU>

#include "geometry/linear.hpp"
#include "geometry/propagated.hpp"
#include "heron/base/error.hpp"

namespace heron {
namespace {

using Change = Eigen::Matrix<double, CameraMapping::parameter_count, 1>;

/// Steps that move a pixel by some thousandths.
Change steps_of(const CameraModel& camera) {
  const double far = std::max(1.0, camera.camera_from_world.position.norm());
  Change steps;
  steps << Eigen::Vector4d::Constant(1e-2), Eigen::Matrix<double, 5, 1>::Constant(1e-5),
      Eigen::Vector3d::Constant(1e-6), Eigen::Vector3d::Constant(1e-6 * far);
  return steps;
}

WorldPoint point_at(const CameraModel& camera, Point2 pixel, double height_mm) {
  const auto point = camera.plane_point(pixel, height_mm);
  if (!point)
    throw Error(ErrorCode::not_determined,
                fmt::format("pixel ({:.1f}, {:.1f}) does not look at the plane at height {:g} mm", pixel.x,
                            pixel.y, height_mm));
  return *point;
}

/// x, y and direction of what is seen at a pixel.
Eigen::Vector3d seen_at(const CameraModel& camera, Point2 pixel, Angle angle, double height_mm) {
  const Point2 step = unit(angle) * 0.05;
  const WorldPoint p = point_at(camera, pixel, height_mm);
  const WorldPoint d = point_at(camera, pixel + step, height_mm) - point_at(camera, pixel - step, height_mm);
  return {p.x, p.y, direction(d.plain()).radians()};
}

Eigen::Vector3d slope(const Eigen::Vector3d& ahead, const Eigen::Vector3d& behind, double step) {
  Eigen::Vector3d d = ahead - behind;
  d.z() = radians(d.z()).wrapped().radians();
  return d / (2 * step);
}

/// Distances along axis and ray of a segment of that width between two rays.
Eigen::Vector2d distances(const Lens& lens, Point2 a, Point2 b, double width_mm, WidthLies lies,
                          Eigen::Vector3d& ray) {
  const auto ra = ray_of(lens, a), rb = ray_of(lens, b);
  if (!ra || !rb) throw Error(ErrorCode::not_determined, "the lens has no ray for that pixel");
  if (lies == WidthLies::across_axis) {
    ray = 0.5 * (*ra + *rb);
    const double z = width_mm / (*ra - *rb).norm();
    return {z, z * ray.norm()};
  }
  const Eigen::Vector3d ua = ra->normalized(), ub = rb->normalized();
  ray = (ua + ub) / (ua + ub).z();
  const double half = 0.5 * std::atan2(ua.cross(ub).norm(), ua.dot(ub));
  const double along = 0.5 * width_mm / std::tan(half);
  return {along / ray.norm(), along};
}

}  // namespace

CameraMapping::CameraMapping(const CameraModel& camera, const Covariance& covariance)
    : camera_(camera), covariance_(covariance) {
  if (!vector_of(camera.lens).allFinite() || !(camera.lens.fx > 0) || !(camera.lens.fy > 0) ||
      !camera.camera_from_world.position.allFinite() ||
      !camera.camera_from_world.rotation.coeffs().allFinite())
    fail_argument("mapping: a camera needs finite parameters and a focal length above 0");
  camera_.camera_from_world.rotation.normalize();
}

CameraModel CameraMapping::changed(const Change& change) const {
  CameraModel c = camera_;
  c.lens = lens_of(vector_of(c.lens) + change.head<9>());
  const Pose3 moved{turn_of(change.segment<3>(9)), change.tail<3>()};
  c.camera_from_world = {moved.rotation * c.camera_from_world.rotation,
                         moved.rotation * c.camera_from_world.position + moved.position};
  return c;
}

Point2 CameraMapping::pixel_from_world(WorldPoint world, double height_mm) const {
  const Eigen::Vector3d seen = camera_.camera_from_world * Eigen::Vector3d(world.x, world.y, height_mm);
  if (!(seen.z() > 0))
    throw Error(ErrorCode::not_determined, "the point lies behind the camera; it has no pixel");
  return project(camera_.lens, seen);
}

WorldPoint CameraMapping::world_from_pixel(Point2 pixel, double height_mm) const {
  return point_at(camera_, pixel, height_mm);
}

WorldPose CameraMapping::world_pose(Point2 pixel, Angle angle, const PoseSigma& seen,
                                    double height_mm) const {
  const Eigen::Vector3d here = seen_at(camera_, pixel, angle, height_mm);
  Eigen::Matrix<double, 3, parameter_count> by_parameters;
  const Change steps = steps_of(camera_);
  for (int k = 0; k < parameter_count; ++k) {
    if (covariance_(k, k) == 0) {
      by_parameters.col(k).setZero();
      continue;
    }
    const Change step = Change::Unit(k) * steps[k];
    by_parameters.col(k) = slope(seen_at(changed(step), pixel, angle, height_mm),
                                 seen_at(changed(-step), pixel, angle, height_mm), steps[k]);
  }
  Eigen::Matrix3d by_detection;
  by_detection.col(0) = slope(seen_at(camera_, pixel + Point2{0.5, 0}, angle, height_mm),
                              seen_at(camera_, pixel - Point2{0.5, 0}, angle, height_mm), 0.5);
  by_detection.col(1) = slope(seen_at(camera_, pixel + Point2{0, 0.5}, angle, height_mm),
                              seen_at(camera_, pixel - Point2{0, 0.5}, angle, height_mm), 0.5);
  by_detection.col(2) = slope(seen_at(camera_, pixel, angle + radians(1e-3), height_mm),
                              seen_at(camera_, pixel, angle - radians(1e-3), height_mm), 1e-3);
  const double seen_x = seen.x.value_or(0), seen_y = seen.y.value_or(0),
               seen_turn = seen.angle.value_or(Angle{}).radians();
  const Eigen::Vector3d of_detection(seen_x * seen_x, seen_y * seen_y, seen_turn * seen_turn);
  const Eigen::Matrix3d of_mapping = product(product(by_parameters, covariance_), by_parameters.transpose());
  const Eigen::Matrix3d covariance =
      of_mapping + by_detection * of_detection.asDiagonal() * by_detection.transpose();
  WorldPose pose;
  pose.x_mm = here.x(), pose.y_mm = here.y(), pose.z_mm = height_mm;
  pose.angle = WorldAngle(radians(here.z()).wrapped());
  const Eigen::Vector3d sigma = covariance.diagonal().cwiseMax(0).cwiseSqrt();
  const auto known = [&](int row) {
    return is_known(by_detection(row, 0), by_detection(row, 1), seen.x, seen.y);
  };
  if (known(0)) pose.sigma.x = sigma.x();
  if (known(1)) pose.sigma.y = sigma.y();
  if (seen.angle) pose.sigma.angle = radians(sigma.z());
  return pose;
}

WidthDistance CameraMapping::distance_of_width(Point2 a, Point2 b, double width_mm, WidthLies lies,
                                               double sigma_px) const {
  if (!(width_mm > 0)) fail_argument(fmt::format("the width must be above 0 mm, {:g} was given", width_mm));
  if (!(distance(a, b) > 1e-9)) fail_argument("the two ends of the width are the same pixel");
  Eigen::Vector3d ray, other;
  const Eigen::Vector2d d = distances(camera_.lens, a, b, width_mm, lies, ray);
  Eigen::Vector2d variance = Eigen::Vector2d::Zero();
  for (const Point2 step : {Point2{0.5, 0}, Point2{0, 0.5}}) {
    const Eigen::Vector2d at_a = distances(camera_.lens, a + step, b, width_mm, lies, other) -
                                 distances(camera_.lens, a - step, b, width_mm, lies, other);
    const Eigen::Vector2d at_b = distances(camera_.lens, a, b + step, width_mm, lies, other) -
                                 distances(camera_.lens, a, b - step, width_mm, lies, other);
    variance += sigma_px * sigma_px * (at_a.cwiseAbs2() + at_b.cwiseAbs2());
  }
  Eigen::Matrix<double, 2, 9> by_lens;
  const Change steps = steps_of(camera_);
  for (int k = 0; k < 9; ++k) {
    const Change step = Change::Unit(k) * steps[k];
    by_lens.col(k) = (distances(changed(step).lens, a, b, width_mm, lies, other) -
                      distances(changed(-step).lens, a, b, width_mm, lies, other)) /
                     (2 * steps[k]);
  }
  variance += product(product(by_lens, covariance_.topLeftCorner<9, 9>()), by_lens.transpose()).diagonal();
  return {d[0],
          d[1],
          radians(std::atan(ray.x())),
          radians(-std::atan2(ray.y(), std::hypot(ray.x(), 1.0))),
          std::sqrt(std::max(0.0, variance[0])),
          std::sqrt(std::max(0.0, variance[1]))};
}

}  // namespace heron
