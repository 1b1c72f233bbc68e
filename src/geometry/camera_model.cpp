#include "heron/geometry/camera_model.hpp"

#include <Eigen/LU>

namespace heron {
namespace {

struct Distorted {
  Point2 at;
  Eigen::Matrix2d by_point;
};

Distorted distort(const Lens& l, double x, double y) {
  const double r2 = x * x + y * y, radial = 1 + r2 * (l.k1 + r2 * (l.k2 + r2 * l.k3));
  const double slope = 2 * (l.k1 + r2 * (2 * l.k2 + r2 * 3 * l.k3));  // of `radial`, by r2, doubled
  Distorted d;
  d.at = {x * radial + 2 * l.p1 * x * y + l.p2 * (r2 + 2 * x * x),
          y * radial + l.p1 * (r2 + 2 * y * y) + 2 * l.p2 * x * y};
  const double mixed = x * y * slope + 2 * l.p1 * x + 2 * l.p2 * y;
  d.by_point << radial + x * x * slope + 2 * l.p1 * y + 6 * l.p2 * x, mixed,  //
      mixed, radial + y * y * slope + 6 * l.p1 * y + 2 * l.p2 * x;
  return d;
}

}  // namespace

LensVector vector_of(const Lens& l) {
  LensVector v;
  v << l.fx, l.fy, l.cx, l.cy, l.k1, l.k2, l.p1, l.p2, l.k3;
  return v;
}

Lens lens_of(const LensVector& v) {
  return {.fx = v[0],
          .fy = v[1],
          .cx = v[2],
          .cy = v[3],
          .k1 = v[4],
          .k2 = v[5],
          .k3 = v[8],
          .p1 = v[6],
          .p2 = v[7]};
}

Point2 project(const Lens& l, const Eigen::Vector3d& point, ProjectionDerivative* derivative) {
  const double z = 1 / point.z(), x = point.x() * z, y = point.y() * z;
  const Distorted d = distort(l, x, y);
  if (derivative) {
    const double r2 = x * x + y * y, r4 = r2 * r2, r6 = r4 * r2;
    derivative->by_lens << d.at.x, 0, 1, 0, l.fx * x * r2, l.fx * x * r4, l.fx * 2 * x * y,
        l.fx * (r2 + 2 * x * x),
        l.fx * x * r6,  //
        0, d.at.y, 0, 1, l.fy * y * r2, l.fy * y * r4, l.fy * (r2 + 2 * y * y), l.fy * 2 * x * y,
        l.fy * y * r6;
    Eigen::Matrix<double, 2, 3> normalised_by_point;
    normalised_by_point << z, 0, -x * z, 0, z, -y * z;
    derivative->by_point = Eigen::Vector2d(l.fx, l.fy).asDiagonal() * d.by_point * normalised_by_point;
  }
  return {l.fx * d.at.x + l.cx, l.fy * d.at.y + l.cy};
}

std::optional<Eigen::Vector3d> ray_of(const Lens& l, Point2 pixel) {
  const Point2 wanted{(pixel.x - l.cx) / l.fx, (pixel.y - l.cy) / l.fy};
  Point2 p = wanted;
  double left = 1;
  for (int i = 0; i < 30 && left > 1e-15; ++i) {
    const Distorted d = distort(l, p.x, p.y);
    if (!(d.by_point.determinant() > 1e-3)) return std::nullopt;
    const Eigen::Vector2d step = d.by_point.inverse() * Eigen::Vector2d(wanted.x - d.at.x, wanted.y - d.at.y);
    p += {step.x(), step.y()};
    left = step.norm();
  }
  if (!(left < 1e-9) || !(distort(l, p.x, p.y).by_point.determinant() > 1e-3)) return std::nullopt;
  return Eigen::Vector3d(p.x, p.y, 1);
}

Eigen::Quaterniond turn_of(const Eigen::Vector3d& v) {
  const double angle = v.norm();
  if (angle < 1e-300) return Eigen::Quaterniond::Identity();
  return Eigen::Quaterniond(Eigen::AngleAxisd(angle, v / angle));
}

Eigen::Vector3d rotation_vector_of(const Eigen::Quaterniond& rotation) {
  const double sign = rotation.w() < 0 ? -1 : 1, sine = rotation.vec().norm();
  // Near the identity the angle is twice the vector part.
  const double factor = sine < 1e-12 ? 2.0 : 2 * std::atan2(sine, sign * rotation.w()) / sine;
  return rotation.vec() * (sign * factor);
}

Point2 CameraModel::project(const Eigen::Vector3d& world) const {
  return heron::project(lens, camera_from_world * world);
}

std::optional<WorldPoint> CameraModel::plane_point(Point2 pixel, double z_mm) const {
  const auto seen = ray_of(lens, pixel);
  if (!seen) return std::nullopt;
  const Pose3 world_from_camera = camera_from_world.inverse();
  const Eigen::Vector3d origin = world_from_camera.position;
  const Eigen::Vector3d ray = world_from_camera.rotation * *seen;
  if (std::abs(ray.z()) < 1e-12) return std::nullopt;
  const double t = (z_mm - origin.z()) / ray.z();
  if (t <= 0) return std::nullopt;
  return WorldPoint(origin.x() + t * ray.x(), origin.y() + t * ray.y());
}

}  // namespace heron
