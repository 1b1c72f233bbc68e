#include "heron/calibrate/check.hpp"

#include <fmt/format.h>

#include <Eigen/LU>

#include "heron/base/error.hpp"

namespace heron {

MappingCheck check_mapping(const Mapping& mapping, double mapping_sigma_px, const BoardShape& shape,
                           const std::vector<BoardPoint>& seen, double dot_radius_px) {
  if (seen.size() < 9)
    throw Error(ErrorCode::not_determined,
                fmt::format("check: {} board points; at least 9 are needed", seen.size()));
  // The mapping knows where centres are, a slanted dot is seen beside its own: a plane fitted to the new
  // picture shows by how much, and the new picture's noise as well.
  const PlaneCalibration now = calibrate_plane(seen, shape, dot_radius_px, 2, 2);
  std::vector<BoardPoint> points = seen;
  for (size_t i = 0; i < points.size(); ++i)
    points[i].pixel = now.mapping.pixel_from_world(now.points[i].world_mm) + now.points[i].residual_px;
  MappingCheck check;
  const auto n = static_cast<double>(points.size());
  Point2 old_middle, new_middle;
  std::vector<Point2> board, world;
  for (const BoardPoint& p : points) {
    const WorldPoint place(shape.point(p.column, p.row));
    board.push_back(place.plain());
    world.push_back(mapping.world_from_pixel(p.pixel).plain());
    old_middle += board.back() / n, new_middle += world.back() / n;
    check.points.push_back({p.pixel, place, p.pixel - mapping.pixel_from_world(place)});
  }
  // world = scale * turned board: complex ratio of both about their middles.
  double along = 0, across = 0, spread = 0;
  for (size_t i = 0; i < board.size(); ++i) {
    const Point2 b = board[i] - old_middle, w = world[i] - new_middle;
    along += dot(b, w), across += cross(b, w), spread += dot(b, b);
  }
  check.scale = std::hypot(along, across) / spread;
  check.turn = radians(std::atan2(across, along));
  check.shift_mm = new_middle - old_middle;
  double left = 0;
  for (size_t i = 0; i < board.size(); ++i) {
    const Point2 expected = new_middle + rotated(board[i] - old_middle, check.turn);
    const Point2 r = points[i].pixel - mapping.pixel_from_world(WorldPoint(expected));
    left += dot(r, r);
  }
  check.shape_px = std::sqrt(left / n);

  // What noise alone does: that of the new points, and the mapping's own.
  const Point2 middle_px = mapping.pixel_from_world(WorldPoint(new_middle));
  const WorldPose at_middle = mapping.world_pose(middle_px, {});
  const double mm = mapping.mm_per_pixel(middle_px);
  const double new_sigma = std::max(mapping_sigma_px, now.sigma_px);
  const double noise_mm = new_sigma * mm;
  const double map_mm = std::max(*at_middle.sigma.x, *at_middle.sigma.y);
  check.sigma_shift_mm = std::hypot(noise_mm / std::sqrt(n), map_mm);
  check.sigma_turn = radians(std::hypot(noise_mm / std::sqrt(spread), at_middle.sigma.angle->radians()));
  check.sigma_scale =
      std::hypot(noise_mm / std::sqrt(spread),
                 at_middle.sigma.angle->radians());  // a mapping knows scale as well as it knows angles
  check.expected_px = std::sqrt(2.0) * std::hypot(new_sigma, map_mm / mm);
  const bool lengths_hold = check.shape_px < 1.5 * check.expected_px + 0.01 &&
                            std::abs(check.scale - 1) < 4 * check.sigma_scale + 2e-5;
  const bool still =
      norm(check.shift_mm) < 4 * check.sigma_shift_mm && abs(check.turn) < check.sigma_turn * 4;
  check.state = !lengths_hold ? MappingState::changed : still ? MappingState::holds : MappingState::moved;
  return check;
}

}  // namespace heron
