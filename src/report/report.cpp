#include "heron/report/report.hpp"

#include <fmt/format.h>

#include "geometry/linear.hpp"
#include "heron/base/error.hpp"
#include "in_space.hpp"

namespace heron {
namespace {

std::optional<WorldPose> world_pose_of(const Detection& s, const Mapping& mapping, double height_mm) {
  try {
    return mapping.world_pose({s.x, s.y}, s.angle, s.sigma, height_mm);
  } catch (const Error& error) {
    if (error.code() != ErrorCode::not_determined) throw;
    return std::nullopt;
  }
}

WorldPose moved(const WorldPose& pose, const Pose2& to_from, const Pose2& part_from_grasp) {
  const Pose2 p = to_from * Pose2{pose.x_mm, pose.y_mm, pose.angle} * part_from_grasp;
  // The sigmas are turned as an upright ellipse; its tilt is left out, so they err on the safe side.
  const double c = std::abs(cos(to_from.angle)), s = std::abs(sin(to_from.angle));
  // A grasp beside the origin swings with the part's angle.
  const double swing = norm(part_from_grasp.position()) * pose.sigma.angle.radians();
  WorldPose result = pose;
  result.x_mm = p.x, result.y_mm = p.y, result.angle = p.angle;
  result.sigma.x = std::hypot(c * pose.sigma.x, s * pose.sigma.y, swing);
  result.sigma.y = std::hypot(s * pose.sigma.x, c * pose.sigma.y, swing);
  return result;
}

/// Where the robot grips: the grasp belongs to the part, so it is added before the user's axes, which may be
/// left-handed, are applied.
WorldPose robot_pose_of(const WorldPose& world, const Frames& frames, const Pose2& part_from_grasp) {
  if (!frames.robot_from_axes || !frames.axes) return moved(world, *frames.robot_from_world, part_from_grasp);
  return moved(frames.axes->seen_from(moved(world, {}, part_from_grasp)), *frames.robot_from_world, {});
}

/// Square millimetres that a square pixel covers there.
double square_mm_at(const Mapping& mapping, Point2 pixel, double height_mm) {
  const Point2 right = mapping.world_from_pixel(pixel + Point2{0.5, 0}, height_mm) -
                       mapping.world_from_pixel(pixel - Point2{0.5, 0}, height_mm);
  const Point2 down = mapping.world_from_pixel(pixel + Point2{0, 0.5}, height_mm) -
                      mapping.world_from_pixel(pixel - Point2{0, 0.5}, height_mm);
  return std::abs(cross(right, down));
}

/// Areas, points and lengths in millimetres.
void add_millimetres(ReportedPart& part, const Frames& frames, double height_mm) {
  Detection& s = part.detection;
  const auto world = [&](Point2 p) { return frames.mapping->world_from_pixel(p, height_mm); };
  const size_t own = s.measurements.size();
  for (size_t i = 0; i < own; ++i)
    if (s.measurements[i].unit == MeasurementUnit::square_pixels)
      s.measurements.push_back(
          {s.measurements[i].name + "_mm2",
           s.measurements[i].value * square_mm_at(*frames.mapping, {s.x, s.y}, height_mm)});
  for (const NamedPoint& p : s.points) {
    const Point2 at = world(p.at);
    WorldPose pose;
    pose.x_mm = at.x, pose.y_mm = at.y;
    if (frames.axes) pose = frames.axes->seen_from(pose);
    part.points_mm.push_back({pose.x_mm, pose.y_mm});
  }
  for (const MeasuredLength& span : s.lengths)
    part.lengths_mm.push_back(distance(world(span.from), world(span.to)));
}

/// The middle of the circle on the plane whose picture the ellipse is: not the picture of its own middle
/// unless it is seen squarely. Its diameter becomes a figure.
void centre_by_rim(Detection& s, const Mapping& mapping, double height_mm, WorldPose& pose) {
  constexpr int count = 24;
  Eigen::Matrix<double, count, 3> rows;
  Eigen::Matrix<double, count, 1> squares;
  for (int k = 0; k < count; ++k) {
    const Point2 p = mapping.world_from_pixel(s.rim->at(degrees(360.0 * k / count)), height_mm) -
                     Point2{pose.x_mm, pose.y_mm};
    rows.row(k) << 2 * p.x, 2 * p.y, 1;
    squares[k] = dot(p, p);
  }
  const LinearLeastSquares circle = least_squares(rows, squares);
  if (!circle.determined) return;
  const double x = circle.x[0], y = circle.x[1];
  pose.x_mm += x, pose.y_mm += y;
  s.measurements.push_back({"diameter_mm", 2 * std::sqrt(std::max(0.0, circle.x[2] + x * x + y * y))});
}

}  // namespace

void add_result(Report& report, FindResult find_result, const Frames& frames, const PartGeometry& place) {
  if (frames.mapping && frames.mapping->plane() && place.height_mm != 0)
    fail_argument(
        fmt::format("the part stands {:g} mm above the work plane, and the mapping is of a plane alone, "
                    "which knows nothing of heights. Calibrate the lens "
                    "(`heron calibrate --lens`), then the plane with `--lens-from`",
                    place.height_mm));
  if (frames.mapping && place.size_mm > 0 && !frames.mapping->camera())
    fail_argument(
        fmt::format("the part's size of {:g} mm tells how far away it is only through a known lens, and the "
                    "mapping is of a plane alone. Calibrate the lens (`heron calibrate --lens`), then the "
                    "plane with `--lens-from`; or teach without --size",
                    place.size_mm));
  for (Detection& s : find_result.detections) {
    ReportedPart part{std::move(s), std::nullopt, std::nullopt};
    if (frames.mapping && place.size_mm > 0)
      part.world = in_space(part.detection, *frames.mapping->camera(), place.size_mm, part.distance);
    else if (frames.mapping)
      part.world = world_pose_of(part.detection, *frames.mapping, place.height_mm);
    if (part.world && place.size_mm == 0) try {
        if (part.detection.rim) centre_by_rim(part.detection, *frames.mapping, place.height_mm, *part.world);
        add_millimetres(part, frames, place.height_mm);
      } catch (const Error& error) {  // a corner past the plane's horizon
        if (error.code() != ErrorCode::not_determined) throw;
        part.points_mm.clear(), part.lengths_mm.clear();
      }
    if (part.world && frames.robot_from_world) part.robot = robot_pose_of(*part.world, frames, place.grasp);
    if (part.world && frames.axes) part.world = frames.axes->seen_from(*part.world);
    report.parts.push_back(std::move(part));
  }
  std::move(find_result.misses.begin(), find_result.misses.end(), std::back_inserter(report.misses));
  std::move(find_result.profiles.begin(), find_result.profiles.end(), std::back_inserter(report.profiles));
}

}  // namespace heron
