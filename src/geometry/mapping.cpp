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

Point2 Mapping::pixel_from_world(Point2 world, double height_mm) const {
  if (const CameraMapping* c = camera()) return c->pixel_from_world(world, height_mm);
  require_on_plane(height_mm);
  return plane()->pixel_from_world(world);
}

Point2 Mapping::world_from_pixel(Point2 pixel, double height_mm) const {
  if (const CameraMapping* c = camera()) return c->world_from_pixel(pixel, height_mm);
  require_on_plane(height_mm);
  return plane()->world_from_pixel(pixel);
}

WorldPose Mapping::world_pose(Point2 pixel, Angle angle, const PoseSigma& seen, double height_mm) const {
  if (const CameraMapping* c = camera()) return c->world_pose(pixel, angle, seen, height_mm);
  require_on_plane(height_mm);
  return plane()->world_pose(pixel, angle, seen);
}

double Mapping::mm_per_pixel(Point2 pixel, double height_mm) const {
  const double h = 0.25;
  const Point2 x =
      world_from_pixel(pixel + Point2{h, 0}, height_mm) - world_from_pixel(pixel - Point2{h, 0}, height_mm);
  const Point2 y =
      world_from_pixel(pixel + Point2{0, h}, height_mm) - world_from_pixel(pixel - Point2{0, h}, height_mm);
  return std::sqrt(std::abs(cross(x, y))) / (2 * h);
}

void Axes::require_valid() const {
  if (!is_finite(zero_mm)) fail_argument("axes: zero must lie at finite coordinates");
  if (cross(direction_of(x), direction_of(y)) == 0)
    fail_argument("axes: both lie along the same line; give one of +X, -X and one of +Y, -Y");
}

bool Axes::right_handed() const { return cross(direction_of(x), direction_of(y)) > 0; }

WorldPose Axes::seen_from(const WorldPose& world) const {
  const Point2 ux = direction_of(x), uy = direction_of(y), p = Point2{world.x_mm, world.y_mm} - zero_mm,
               d = unit(world.angle);
  WorldPose seen = world;
  seen.x_mm = dot(p, ux), seen.y_mm = dot(p, uy);
  seen.angle = radians(std::atan2(dot(d, uy), dot(d, ux)));
  if (ux.x == 0) std::swap(seen.sigma.x, seen.sigma.y);
  return seen;
}

Point2 Axes::world_from_axes(Point2 p) const {
  return zero_mm + direction_of(x) * p.x + direction_of(y) * p.y;
}

}  // namespace heron
