#include "grasping.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <functional>

#include "heron/base/error.hpp"
#include "heron/image/region.hpp"

namespace heron {
namespace {

constexpr int free_angles = 24;  // of a part that has no angle of its own

/// How far the angle lies from the middle of what the wrist can do.
double from_middle(WorldAngle angle, const Range<double>& wrist) {
  return std::abs((angle.turn() - degrees((wrist.min + wrist.max) / 2)).wrapped().degrees());
}

bool within(WorldAngle angle, const Range<double>& wrist) {
  for (const double turn : {-360.0, 0.0, 360.0})
    if (const double a = angle.degrees() + turn; a >= wrist.min && a <= wrist.max) return true;
  return false;
}

/// Corners of a box about the origin of a pose.
std::vector<Point2> corners_at(const Box& box, Point2 at, Angle angle, double scale) {
  std::vector<Point2> corners;
  for (const Point2 p : {Point2{box.x, box.y},
                         {box.x + box.width, box.y},
                         {box.x + box.width, box.y + box.height},
                         {box.x, box.y + box.height}})
    corners.push_back(at + rotated(p * scale, angle));
  return corners;
}

/// Of a part that is put down: it lies in the hand as inexactly as it was found, and the hand may have
/// turned.
PoseSigma sigma_of(const PoseSigma& nest, const PoseSigma& taken) {
  PoseSigma sigma;
  if (nest.angle && taken.angle)
    sigma.angle = radians(std::hypot(nest.angle->radians(), taken.angle->radians()));
  if (!taken.x || !taken.y) return sigma;
  const double larger = std::max(*taken.x, *taken.y);
  if (nest.x) sigma.x = std::hypot(*nest.x, larger);
  if (nest.y) sigma.y = std::hypot(*nest.y, larger);
  return sigma;
}

std::string turned_away(const std::vector<std::string>& reasons) {
  if (std::adjacent_find(reasons.begin(), reasons.end(), std::not_equal_to<>()) == reasons.end())
    return "it cannot be gripped: " + reasons[0];
  std::string text = "it cannot be gripped";
  constexpr size_t most = 3;  // reasons in one sentence
  for (size_t i = 0; i < std::min(most, reasons.size()); ++i)
    text += fmt::format("{} grasp {}: {}", i == 0 ? ":" : ";", i + 1, reasons[i]);
  if (reasons.size() > most) text += fmt::format("; and {} more", reasons.size() - most);
  return text;
}

}  // namespace

/// Nothing past the plane's horizon.
std::optional<Point2> Grasping::sent_point(Point2 pixel, double height_mm) const try {
  const WorldPoint world = frames_.mapping->world_from_pixel(pixel, height_mm);
  if (frames_.robot_from_world) return (*frames_.robot_from_world * world).plain();
  const UserPose user = user_pose({world.x, world.y, 0, {}, {}}, frames_.axes);
  return (*frames_.robot_from_user * user.position()).plain();
} catch (const Error& error) {
  if (error.code() != ErrorCode::not_determined) throw;
  return std::nullopt;
}

/// Nothing behind the camera.
std::optional<Point2> Grasping::pixel_point(Point2 sent, double height_mm) const try {
  if (frames_.robot_from_world)
    return frames_.mapping->pixel_from_world(frames_.robot_from_world->inverse() * RobotPoint(sent),
                                             height_mm);
  const UserPoint user = frames_.robot_from_user->inverse() * RobotPoint(sent);
  return frames_.mapping->pixel_from_world(
      frames_.axes ? frames_.axes->world_from_user(user) : WorldPoint(user.plain()), height_mm);
} catch (const Error& error) {
  if (error.code() != ErrorCode::not_determined) throw;
  return std::nullopt;
}

/// Through the same steps as any part's place, so that heights, sizes, rims and the user's axes hold.
std::optional<RobotPose> Grasping::robot_pose(const Detection& d, const PartGeometry& geometry,
                                              const PartFromGrasp& grasp) const {
  FindResult one;
  one.detections.push_back(d);
  one.detections[0].edges.clear();
  PartGeometry there = geometry;
  there.grasp = grasp;
  Report report;
  add_result(report, std::move(one), frames_, there);
  return report.parts[0].robot;
}

/// What a part covers as seen from above: the hull of what its kind knows of it, where it was covered too.
/// Empty where it reaches past the plane's horizon.
std::vector<Point2> Grasping::outline(const Detection& d, const Graspable& target) const {
  std::vector<Point2> points;
  for (const EdgeMatch& e : d.edges) points.push_back(e.place);
  for (const Contour& c : d.contours)
    if (c.closed) points.insert(points.end(), c.points.begin(), c.points.end());
  points = convex_hull(std::move(points));
  if (points.size() < 3) points = corners_at(target.extent, {d.x, d.y}, d.angle, d.scale);
  std::vector<Point2> corners;
  for (const Point2 p : points) {
    const auto corner = sent_point(p, target.geometry.height_mm);
    if (!corner) return {};
    corners.push_back(*corner);
  }
  return convex_hull(std::move(corners));
}

std::vector<Grasping::Candidate> Grasping::candidates(const ReportedPart& part,
                                                      const HeightOf& height_of) const {
  const Graspable& target = targets_.at(part.detection.target);
  const GripperSettings gripper = setup_.gripper.value_or(GripperSettings{.fingers = 0});
  const bool any_angle = !part.detection.has_angle && gripper.fingers > 0;
  const int turns = any_angle ? free_angles : gripper.turns;
  std::vector<Candidate> all;
  for (size_t i = 0; i < target.grasps.size(); ++i) {
    const size_t first = all.size();
    const auto height = height_of ? height_of(part.detection, target.grasps[i]) : std::nullopt;
    if (height_of && !height) continue;
    for (int turn = 0; turn < turns; ++turn) {
      const PartFromGrasp grasp(target.grasps[i].plain() * Pose2{0, 0, degrees(360.0 * turn / turns)});
      auto pose = robot_pose(part.detection, target.geometry, grasp);
      if (!pose) continue;
      if (height) pose->z_mm = table_z() + *height;
      all.push_back({static_cast<int>(i) + 1, grasp, *pose});
    }
    std::stable_sort(all.begin() + static_cast<std::ptrdiff_t>(first), all.end(),
                     [&](const Candidate& a, const Candidate& b) {
                       return from_middle(a.pose.angle, gripper.wrist_deg) <
                              from_middle(b.pose.angle, gripper.wrist_deg);
                     });
  }
  return all;
}

std::string Grasping::why_not(size_t part, const Candidate& candidate, const InTheWay& in_the_way) const {
  if (!setup_.gripper) return {};
  const GripperSettings& g = *setup_.gripper;
  const RobotPose& pose = candidate.pose;
  if (!g.reach.empty()) {
    std::vector<Point2> corners;
    for (const RobotPoint& p : g.reach) corners.push_back(p.plain());
    if (!Region::polygon(corners).contains(pose.position().plain())) return "it lies outside the reach";
  }
  if (!within(pose.angle, g.wrist_deg))
    return fmt::format("the wrist would turn to {:.1f} degrees, allowed are {:g} to {:g}",
                       pose.angle.degrees(), g.wrist_deg.min, g.wrist_deg.max);
  const std::vector<HandPiece> hand =
      hand_at(g, {pose.x_mm, pose.y_mm, pose.angle.turn()}, above_table(pose), g.clearance_mm);
  std::vector<Obstacle> walls;
  for (const Wall& w : g.walls) {
    walls.push_back({w.name, {}, w.top_mm});
    for (const RobotPoint& p : w.corners) walls.back().corners.push_back(p.plain());
  }
  if (std::string wall = heron::in_the_way(hand, walls); !wall.empty()) return wall;
  return in_the_way(part, hand);
}

ChosenGrasp Grasping::chosen(const Candidate& candidate, bool free) const {
  ChosenGrasp grasp{.number = candidate.number};
  if (!setup_.gripper) return grasp;
  const GripperSettings& g = *setup_.gripper;
  const RobotPose& pose = candidate.pose;
  if (g.approach_mm) grasp.approach_z_mm = pose.z_mm + *g.approach_mm;
  if (g.retreat_mm) grasp.retreat_z_mm = pose.z_mm + *g.retreat_mm;
  for (const HandPiece& piece : hand_at(g, {pose.x_mm, pose.y_mm, pose.angle.turn()}, above_table(pose), 0)) {
    if (piece.on_part && g.fingers > 0) continue;
    Contour contour{.points = {}, .closed = true, .seen = free};
    for (const Point2 p : piece.corners)
      if (const auto pixel = pixel_point(p, setup_.heights ? 0 : above_table(pose)))
        contour.points.push_back(*pixel);
    if (contour.points.size() == piece.corners.size()) grasp.hand.push_back(std::move(contour));
  }
  return grasp;
}

void Grasping::choose(Report& report, const InTheWay& in_the_way, const HeightOf& height_of) {
  taken_.assign(report.parts.size(), {});
  for (size_t i = 0; i < report.parts.size(); ++i) {
    ReportedPart& part = report.parts[i];
    if (!part.robot || !part.withheld.empty()) continue;
    const std::vector<Candidate> all = candidates(part, height_of);
    std::vector<std::string> reasons(targets_.at(part.detection.target).grasps.size());
    const Candidate* free = nullptr;
    for (const Candidate& c : all) {
      std::string why = why_not(i, c, in_the_way);
      if (why.empty()) {
        free = &c;
        break;
      }
      std::string& told = reasons[static_cast<size_t>(c.number) - 1];
      if (told.empty()) told = std::move(why);
    }
    if (free) {
      part.robot = free->pose, part.grasp = chosen(*free, true), taken_[i] = free->grasp;
      continue;
    }
    for (std::string& reason : reasons)
      if (reason.empty()) reason = "its height is not known there";
    part.withheld = turned_away(reasons);
    if (!all.empty()) part.grasp = chosen(all[0], false);
  }
}

void Grasping::choose(Report& report, const std::vector<std::string>& misses, const Image<float>& about) {
  const MeasuredHeights differing{.map = about,
                                  .pixel_of = [&](Point2 p) { return pixel_point(p, 0); },
                                  .min_share = 0,
                                  .low_only = true};
  std::vector<Obstacle> parts, resembling;
  std::vector<Point2> miss_places;
  for (size_t i = 0; i < report.parts.size(); ++i) {
    const Detection& d = report.parts[i].detection;
    const Graspable& target = targets_.at(d.target);
    parts.push_back(
        {fmt::format("{} (part {})", d.target, i + 1), outline(d, target), target.geometry.height_mm});
  }
  for (size_t i = 0; i < report.misses.size(); ++i) {
    const Miss& m = report.misses[i];
    const Graspable& target = targets_.at(misses[i]);
    const auto at = sent_point({m.x, m.y}, target.geometry.height_mm);
    if (!at || m.score < target.min_score / 2) continue;
    const Detection there{.target = misses[i], .x = m.x, .y = m.y, .angle = m.angle, .scale = m.scale};
    resembling.push_back(
        {fmt::format("what resembles {} at {:.0f}, {:.0f} in the picture", misses[i], m.x, m.y),
         outline(there, target), target.geometry.height_mm});
    miss_places.push_back(*at);
  }
  choose(report,
         [&](size_t part, const std::vector<HandPiece>& hand) {
           std::vector<Obstacle> others;
           for (size_t i = 0; i < parts.size(); ++i)
             if (i != part) others.push_back(parts[i]);
           const Region own =
               parts[part].corners.size() < 3 ? Region() : Region::polygon(parts[part].corners);
           for (size_t i = 0; i < resembling.size(); ++i)  // a miss on the part is the part, seen otherwise
             if (!own.contains(miss_places[i])) others.push_back(resembling[i]);
           std::string what = heron::in_the_way(hand, others);
           if (what.empty() && !about.empty()) what = heron::in_the_way(hand, differing, parts[part].corners);
           return what;
         },
         {});
}

void Grasping::choose(Report& report, const Image<float>& map, const HeightOf& height_of) {
  const MeasuredHeights heights{map, [&](Point2 p) { return pixel_point(p, 0); }, setup_.heights->min_share};
  choose(
      report,
      [&](size_t part, const std::vector<HandPiece>& hand) {
        const Detection& d = report.parts[part].detection;
        return heron::in_the_way(hand, heights, outline(d, targets_.at(d.target)));
      },
      height_of);
}

void Grasping::place(Report& report, const PartGeometry& nest) const {
  const PlaceSettings& settings = *setup_.place;
  size_t next = 0;
  for (size_t i = 0; i < report.parts.size(); ++i) {
    ReportedPart& part = report.parts[i];
    if (!part.robot || !part.withheld.empty()) continue;
    while (next < report.nests.size() && !report.nests[next].robot) ++next;
    if (next >= report.nests.size()) {
      part.withheld = report.nests.empty()
                          ? "no nest was found for it"
                          : fmt::format("there is no nest for it: {} found", report.nests.size());
      continue;
    }
    const ReportedPart& there = report.nests[next];
    if (!settings.shared) ++next;
    const PartFromGrasp nest_from_hand(settings.nest_from_part * taken_[i].plain());
    auto place = robot_pose(there.detection, nest, nest_from_hand);
    place->sigma = sigma_of(place->sigma, part.robot->sigma);
    const double nest_z = there.robot->z_mm;
    place->z_mm = nest_z + settings.z_mm.value_or(above_table(*part.robot));
    part.place = place;
  }
}

}  // namespace heron
