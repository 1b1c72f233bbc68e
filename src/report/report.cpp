#include "heron/report/report.hpp"

#include <fmt/format.h>

#include "geometry/linear.hpp"
#include "geometry/propagated.hpp"
#include "heron/base/error.hpp"
#include "heron/locate/names.hpp"
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

/// A pose of a part, of its grasp seen from another frame.
template <class To, class From>
MeasuredPose<To> moved(const MeasuredPose<From>& pose, const FramePose<To, From>& to_from,
                       const PartFromGrasp& part_from_grasp) {
  const Pose2 p = to_from.plain() * Pose2{pose.x_mm, pose.y_mm, pose.angle.turn()} * part_from_grasp.plain();
  // The sigmas are turned as an upright ellipse; its tilt is left out, so they err on the safe side.
  const double c = std::abs(cos(to_from.angle)), s = std::abs(sin(to_from.angle));
  // A grasp beside the origin swings with the part's angle.
  const double beside = norm(part_from_grasp.position());
  const PoseSigma& of = pose.sigma;
  const double x = of.x.value_or(0), y = of.y.value_or(0),
               swing = beside * of.angle.value_or(Angle{}).radians();
  const bool swing_known = of.angle || beside == 0;
  MeasuredPose<To> result{p.x, p.y, pose.z_mm, WorldAngle(p.angle), {.angle = of.angle, .scale = of.scale}};
  if (swing_known && is_known(c, s, of.x, of.y)) result.sigma.x = std::hypot(c * x, s * y, swing);
  if (swing_known && is_known(s, c, of.x, of.y)) result.sigma.y = std::hypot(s * x, c * y, swing);
  return result;
}

/// Where the robot grips: the grasp belongs to the part, so it is added before the user's axes, which may be
/// left-handed, are applied.
std::optional<RobotPose> robot_pose_of(const WorldPose& world, const Frames& frames,
                                       const PartFromGrasp& part_from_grasp) {
  if (frames.robot_from_world) return moved(world, *frames.robot_from_world, part_from_grasp);
  if (!frames.robot_from_user) return std::nullopt;
  const WorldPose grasp = moved(world, FramePose<frames::World, frames::World>{}, part_from_grasp);
  return moved(user_pose(grasp, frames.axes), *frames.robot_from_user, {});
}

/// Square millimetres that a square pixel covers there.
double square_mm_at(const Mapping& mapping, Point2 pixel, double height_mm) {
  const WorldPoint right = mapping.world_from_pixel(pixel + Point2{0.5, 0}, height_mm) -
                           mapping.world_from_pixel(pixel - Point2{0.5, 0}, height_mm);
  const WorldPoint down = mapping.world_from_pixel(pixel + Point2{0, 0.5}, height_mm) -
                          mapping.world_from_pixel(pixel - Point2{0, 0.5}, height_mm);
  return std::abs(cross(right.plain(), down.plain()));
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
    const WorldPoint at = world(p.at);
    part.points_mm.push_back(user_pose({at.x, at.y, 0, {}, {}}, frames.axes).position());
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
    const WorldPoint p =
        mapping.world_from_pixel(s.rim->at(degrees(360.0 * k / count)), height_mm) - pose.position();
    rows.row(k) << 2 * p.x, 2 * p.y, 1;
    squares[k] = dot(p.plain(), p.plain());
  }
  const LinearLeastSquares circle = least_squares(rows, squares);
  if (!circle.determined) return;
  const double x = circle.x[0], y = circle.x[1];
  pose.x_mm += x, pose.y_mm += y;
  s.measurements.push_back(
      {measurement::diameter_mm, 2 * std::sqrt(std::max(0.0, circle.x[2] + x * x + y * y))});
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
    std::optional<WorldPose> world;
    if (frames.mapping && place.size_mm > 0)
      world = in_space(part.detection, *frames.mapping->camera(), place.size_mm, part.distance);
    else if (frames.mapping)
      world = world_pose_of(part.detection, *frames.mapping, place.height_mm);
    if (world && place.size_mm == 0) try {
        if (part.detection.rim) centre_by_rim(part.detection, *frames.mapping, place.height_mm, *world);
        add_millimetres(part, frames, place.height_mm);
      } catch (const Error& error) {  // a corner past the plane's horizon
        if (error.code() != ErrorCode::not_determined) throw;
        part.points_mm.clear(), part.lengths_mm.clear();
      }
    if (world) {
      part.robot = robot_pose_of(*world, frames, place.grasp);
      part.world = user_pose(*world, frames.axes);
    }
    report.parts.push_back(std::move(part));
  }
  std::move(find_result.misses.begin(), find_result.misses.end(), std::back_inserter(report.misses));
  std::move(find_result.profiles.begin(), find_result.profiles.end(), std::back_inserter(report.profiles));
}

}  // namespace heron
