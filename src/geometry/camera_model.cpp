#include "heron/geometry/camera_model.hpp"

namespace heron {
namespace {

Point2 distort(const Lens& l, Point2 p) {
  const double r2 = dot(p, p), radial = 1 + r2 * (l.k1 + r2 * (l.k2 + r2 * l.k3));
  return {p.x * radial + 2 * l.p1 * p.x * p.y + l.p2 * (r2 + 2 * p.x * p.x),
          p.y * radial + l.p1 * (r2 + 2 * p.y * p.y) + 2 * l.p2 * p.x * p.y};
}

/// Fixed-point iteration; converges for every lens whose distortion does not fold the picture.
Point2 undistort(const Lens& l, Point2 distorted) {
  Point2 p = distorted;
  for (int i = 0; i < 50; ++i) {
    const Point2 step = distorted - distort(l, p);
    p += step;
    if (norm(step) < 1e-15) break;
  }
  return p;
}

}  // namespace

Point2 CameraModel::project(const Eigen::Vector3d& world) const {
  const Eigen::Vector3d c = camera_from_world * world;
  const Point2 d = distort(lens, {c.x() / c.z(), c.y() / c.z()});
  return {lens.fx * d.x + lens.cx, lens.fy * d.y + lens.cy};
}

std::optional<Point2> CameraModel::plane_point(Point2 pixel, double z_mm) const {
  const Point2 p = undistort(lens, {(pixel.x - lens.cx) / lens.fx, (pixel.y - lens.cy) / lens.fy});
  const Pose3 world_from_camera = camera_from_world.inverse();
  const Eigen::Vector3d origin = world_from_camera.position;
  const Eigen::Vector3d ray = world_from_camera.rotation * Eigen::Vector3d(p.x, p.y, 1);
  if (std::abs(ray.z()) < 1e-12) return std::nullopt;
  const double t = (z_mm - origin.z()) / ray.z();
  if (t <= 0) return std::nullopt;
  return Point2{origin.x() + t * ray.x(), origin.y() + t * ray.y()};
}

}  // namespace heron
