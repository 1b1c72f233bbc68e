#include "heron/report/report.hpp"

#include "heron/base/error.hpp"

namespace heron {
namespace {

std::optional<WorldPose> world_pose_of(const Sighting& s, const PlaneMapping& mapping) {
  try {
    return mapping.world_pose({s.x, s.y}, s.angle, s.sigma);
  } catch (const Error& error) {
    if (error.code() != ErrorCode::not_determined) throw;
    return std::nullopt;
  }
}

WorldPose moved(const WorldPose& pose, const Pose2& to_from) {
  const Pose2 p = to_from * Pose2{pose.x_mm, pose.y_mm, pose.angle};
  // The sigmas are turned as an upright ellipse; its tilt is left out, so they err on the safe side.
  const double c = std::abs(cos(to_from.angle)), s = std::abs(sin(to_from.angle));
  WorldPose result = pose;
  result.x_mm = p.x, result.y_mm = p.y, result.angle = p.angle;
  result.sigma.x = std::hypot(c * pose.sigma.x, s * pose.sigma.y);
  result.sigma.y = std::hypot(s * pose.sigma.x, c * pose.sigma.y);
  return result;
}

}  // namespace

Report report_of(Findings findings, const PlaneMapping* mapping, const Pose2* robot_from_world) {
  Report report;
  for (Sighting& s : findings.sightings) {
    ReportedPart part{std::move(s), std::nullopt, std::nullopt};
    if (mapping) part.world = world_pose_of(part.sighting, *mapping);
    if (part.world && robot_from_world) part.robot = moved(*part.world, *robot_from_world);
    report.parts.push_back(std::move(part));
  }
  report.misses = std::move(findings.misses);
  return report;
}

}  // namespace heron
