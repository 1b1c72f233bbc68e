#include "heron/geometry/mapping.hpp"

#include <fmt/format.h>

#include "heron/base/error.hpp"

namespace heron {
namespace {

void require_on_plane(double height_mm) {
  if (height_mm == 0) return;
  throw Error(ErrorCode::not_determined,
              fmt::format("a plane mapping cannot say where something {:g} mm above its plane is: from one "
                          "view of a plane nothing is known of heights. "
                          "Calibrate the lens (`heron calibrate --lens`), then the plane with `--lens-from`",
                          height_mm));
}

Point2 direction_of(AxisDirection d) {
  switch (d) {
    case AxisDirection::plus_x:
      return {1, 0};
    case AxisDirection::minus_x:
      return {-1, 0};
    case AxisDirection::plus_y:
      return {0, 1};
    default:
      return {0, -1};
  }
}

}  // namespace

Point2 Mapping::pixel_from_world(WorldPoint world, double height_mm) const {
  if (const CameraMapping* c = camera()) return c->pixel_from_world(world, height_mm);
  require_on_plane(height_mm);
  return plane()->pixel_from_world(world);
}

WorldPoint Mapping::world_from_pixel(Point2 pixel, double height_mm) const {
  if (const CameraMapping* c = camera()) return c->world_from_pixel(pixel, height_mm);
  require_on_plane(height_mm);
  return plane()->world_from_pixel(pixel);
}

WorldPose Mapping::world_pose(Point2 pixel, Angle angle, const PoseSigma& seen, double height_mm) const {
  if (const CameraMapping* c = camera()) return c->world_pose(pixel, angle, seen, height_mm);
  require_on_plane(height_mm);
  return plane()->world_pose(pixel, angle, seen);
}

WorldAngle Mapping::world_angle(Point2 pixel, Angle angle, double height_mm) const {
  return world_pose(pixel, angle, exact_pose, height_mm).angle;
}

double Mapping::mm_per_pixel(Point2 pixel, double height_mm) const {
  const double h = 0.25;
  const WorldPoint x =
      world_from_pixel(pixel + Point2{h, 0}, height_mm) - world_from_pixel(pixel - Point2{h, 0}, height_mm);
  const WorldPoint y =
      world_from_pixel(pixel + Point2{0, h}, height_mm) - world_from_pixel(pixel - Point2{0, h}, height_mm);
  return std::sqrt(std::abs(cross(x.plain(), y.plain()))) / (2 * h);
}

void Axes::require_valid() const {
  if (!is_finite(zero_mm)) fail_argument("axes: zero must lie at finite coordinates");
  if (cross(direction_of(x), direction_of(y)) == 0)
    fail_argument("axes: both lie along the same line; give one of +X, -X and one of +Y, -Y");
}

bool Axes::right_handed() const { return cross(direction_of(x), direction_of(y)) > 0; }

UserPose Axes::seen_from(const WorldPose& world) const {
  const Point2 ux = direction_of(x), uy = direction_of(y), p = (world.position() - zero_mm).plain(),
               d = unit(world.angle.turn());
  UserPose seen = user_pose(world, nullptr);
  seen.x_mm = dot(p, ux), seen.y_mm = dot(p, uy);
  seen.angle = WorldAngle(radians(std::atan2(dot(d, uy), dot(d, ux))));
  if (ux.x == 0) std::swap(seen.sigma.x, seen.sigma.y);
  return seen;
}

WorldPoint Axes::world_from_user(UserPoint p) const {
  return WorldPoint(zero_mm.plain() + direction_of(x) * p.x + direction_of(y) * p.y);
}

UserPose user_pose(const WorldPose& world, const Axes* axes) {
  if (axes) return axes->seen_from(world);
  return {world.x_mm, world.y_mm, world.z_mm, world.angle, world.sigma};
}

}  // namespace heron
