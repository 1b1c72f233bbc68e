#include "in_space.hpp"

#include "heron/base/error.hpp"
#include "heron/geometry/flat_pose.hpp"

namespace heron {
namespace {

/// Where a flat part of known shape stands: all of its pose, from points that were taught.
std::optional<WorldPose> pose_in_space(const Detection& s, const CameraMapping& mapping, double size_mm,
                                       WidthDistance& distance) {
  std::vector<Point2> part_mm, pixels;
  double sigma = 0;
  const double mm = size_mm / s.taught_length;
  for (const NamedPoint& p : s.points) {
    part_mm.push_back({p.taught.x * mm, -p.taught.y * mm});  // its y up, towards the camera z
    pixels.push_back(p.at);
    sigma = std::max({sigma, p.sigma.x, p.sigma.y});
  }
  const CameraModel& camera = mapping.camera();
  const auto flat = flat_pose(camera.lens, part_mm, pixels, std::max(sigma, 0.01));
  if (!flat) return std::nullopt;
  const Eigen::Vector3d& p = flat->camera_from_part.position;
  const Eigen::Matrix3d shift = flat->covariance.bottomRightCorner<3, 3>();
  const Eigen::Vector3d sight = p.normalized();
  distance = {p.z(),
              p.norm(),
              radians(std::atan2(p.x(), p.z())),
              radians(std::atan2(-p.y(), std::hypot(p.x(), p.z()))),
              std::sqrt(shift(2, 2)),
              std::sqrt(sight.dot(shift * sight))};
  const Pose3 world_from_camera = camera.camera_from_world.inverse(),
              world_from_part = world_from_camera * flat->camera_from_part;
  const Eigen::Vector3d x = world_from_part.rotation * Eigen::Vector3d::UnitX();
  const Eigen::Matrix3d turn = world_from_camera.rotation.toRotationMatrix();
  const Eigen::Matrix3d spread = turn * shift * turn.transpose(),
                        turned = turn * flat->covariance.topLeftCorner<3, 3>() * turn.transpose();
  WorldPose pose;
  pose.x_mm = world_from_part.position.x(), pose.y_mm = world_from_part.position.y();
  pose.z_mm = world_from_part.position.z();
  pose.angle = WorldAngle(radians(std::atan2(x.y(), x.x())));
  pose.sigma = {std::sqrt(spread(0, 0)), std::sqrt(spread(1, 1)), radians(std::sqrt(turned(2, 2))), {}};
  return pose;
}

/// Where something of known size stands: on the ray of its position, as far away as it looks small.
WorldPose place_in_space(const Detection& s, const CameraMapping& mapping, double size_mm,
                         WidthDistance& distance) {
  const MeasuredLength& span = s.lengths[0];
  distance = mapping.distance_of_width(span.from, span.to, size_mm, WidthLies::across_axis, span.sigma);
  const CameraModel& camera = mapping.camera();
  const auto ray = ray_of(camera.lens, {s.x, s.y});
  if (!ray) throw Error(ErrorCode::not_determined, "the lens has no ray for this pixel");
  const Pose3 world_from_camera = camera.camera_from_world.inverse();
  const Eigen::Vector3d at = world_from_camera * Eigen::Vector3d(*ray * distance.along_axis_mm);
  const Eigen::Vector3d along = world_from_camera.rotation * ray->normalized();
  WorldPose pose;
  pose.x_mm = at.x(), pose.y_mm = at.y(), pose.z_mm = at.z();
  // Along the ray the distance counts, across it the pixel.
  const double across =
      distance.along_axis_mm / camera.lens.fx * std::hypot(s.sigma.x.value_or(0), s.sigma.y.value_or(0));
  if (!s.sigma.x || !s.sigma.y) return pose;
  pose.sigma = {std::hypot(along.x() * distance.sigma_ray_mm, across),
                std::hypot(along.y() * distance.sigma_ray_mm, across),
                {},
                {}};
  return pose;
}

}  // namespace

std::optional<WorldPose> in_space(const Detection& s, const CameraMapping& mapping, double size_mm,
                                  std::optional<WidthDistance>& distance) {
  try {
    WidthDistance d;
    std::optional<WorldPose> pose;
    if (s.points.size() >= 4 && s.taught_length > 0)
      pose = pose_in_space(s, mapping, size_mm, d);
    else if (!s.lengths.empty())
      pose = place_in_space(s, mapping, size_mm, d);
    if (pose) distance = d;
    return pose;
  } catch (const Error& error) {
    if (error.code() != ErrorCode::not_determined) throw;
    return std::nullopt;
  }
}

}  // namespace heron
