#include "gripper_file.hpp"

#include <fmt/format.h>

#include <cmath>

#include "heron/link/text_protocol.hpp"
#include "set_up_file.hpp"

namespace heron {
namespace {

constexpr double farthest = text_protocol::largest_value;
constexpr int most_grasps = 100;

double number_within(const TomlTable& t, const char* key, double value, double from, double to) {
  if (!(value >= from && value <= to)) t.refuse(key, fmt::format("must be from {:g} to {:g}", from, to));
  return value;
}

std::optional<double> length_in(const TomlTable& t, const char* key) {
  if (!t.has(key)) return std::nullopt;
  return number_within(t, key, t.number(key), 0, farthest);
}

Point2 sides_in(const TomlTable& t, const char* key, const char* what) {
  const auto sides = t.numbers(key, 2);
  if (!(sides[0] > 0 && sides[1] > 0 && sides[0] <= farthest && sides[1] <= farthest))
    t.refuse(key, fmt::format("must be {}, millimetres above 0", what));
  return {sides[0], sides[1]};
}

std::vector<RobotPoint> corners_in(const TomlTable& t, const char* key) {
  std::vector<RobotPoint> corners;
  for (const auto& row : t.rows(key, 2)) corners.emplace_back(row[0], row[1]);
  if (corners.size() < 3) t.refuse(key, "must be three corners or more: [[X, Y], [X, Y], [X, Y]]");
  return corners;
}

/// Every corner to the same side of every edge, and not all on a line.
bool is_convex(const std::vector<RobotPoint>& corners) {
  double least = 0, most = 0, turn = 0;
  for (size_t i = 0; i < corners.size(); ++i) {
    const Point2 a = corners[i].plain(), b = corners[(i + 1) % corners.size()].plain(),
                 c = corners[(i + 2) % corners.size()].plain();
    const double side = cross(b - a, c - b);
    least = std::min(least, side), most = std::max(most, side);
    turn += (direction(c - b) - direction(b - a)).wrapped().radians();
  }
  return (least >= 0 || most <= 0) && most > least && std::abs(turn) < 7;  // once round, not twice
}

Wall wall_of(const TomlTable& t) {
  Wall wall;
  wall.name = t.text("name");
  if (wall.name.empty()) t.refuse("name", "is empty");
  wall.corners = corners_in(t, "corners");
  if (!is_convex(wall.corners))
    t.refuse("corners", "must be those of a convex shape, in order; give a bent one as several");
  wall.top_mm = number_within(t, "top_mm", t.number("top_mm"), -farthest, farthest);
  t.done();
  return wall;
}

void read_fingers(const TomlTable& t, GripperSettings& g) {
  if (g.fingers == 0) {
    for (const char* key : {"open_mm", "closed_mm", "finger", "length_mm"})
      if (t.has(key)) t.refuse(key, "belongs to fingers, and fingers = 0 says that there are none");
    g.palm_mm = sides_in(t, "palm", "[ALONG, ACROSS] of the cup");
    return;
  }
  g.open_mm = number_within(t, "open_mm", t.number("open_mm"), 0, farthest);
  g.closed_mm = length_in(t, "closed_mm");
  g.finger_mm = sides_in(t, "finger", "[THICKNESS, WIDTH] of a finger");
  if (!t.has("palm")) return;
  g.palm_mm = sides_in(t, "palm", "[ALONG, ACROSS] of the palm");
  g.length_mm = number_within(t, "length_mm", t.number("length_mm"), 0, farthest);
}

}  // namespace

GripperSettings gripper_of(const TomlTable& t, const std::string& folder) {
  GripperSettings g;
  g.fingers = t.whole("fingers", g.fingers);
  if (g.fingers < 0 || g.fingers > 12) t.refuse("fingers", "must be from 0, a cup, to 12");
  read_fingers(t, g);
  g.depth_mm = number_within(t, "depth_mm", t.number("depth_mm", 0), 0, farthest);
  g.clearance_mm = number_within(t, "clearance_mm", t.number("clearance_mm", 0), 0, farthest);
  g.turns = t.whole("turns", g.turns);
  if (g.turns < 1 || g.turns > 360) t.refuse("turns", "must be from 1 to 360");
  if (t.has("wrist")) g.wrist_deg = t.range("wrist", g.wrist_deg);
  if (!(g.wrist_deg.min >= -360 && g.wrist_deg.max <= 360))
    t.refuse("wrist", "must be [FROM, TO] within -360 and 360 degrees");
  g.approach_mm = length_in(t, "approach_mm"), g.retreat_mm = length_in(t, "retreat_mm");
  if (t.has("reach")) g.reach = corners_in(t, "reach");
  if (t.has("wall"))
    for (const TomlTable& wall : t.tables("wall")) g.walls.push_back(wall_of(wall));
  g.table = path_in(t, "table", folder);
  g.table_levels = number_within(t, "table_levels", t.number("table_levels", g.table_levels), 1, 255);
  t.done();
  return g;
}

PlaceSettings place_of(const TomlTable& t, const std::string& folder) {
  PlaceSettings place;
  t.text("nest");  // which says that it is missing
  place.target = path_in(t, "nest", folder);
  if (t.has("at")) {
    const auto at = t.numbers("at", 3);
    if (!(std::abs(at[0]) <= farthest && std::abs(at[1]) <= farthest && std::abs(at[2]) <= 360))
      t.refuse("at", "must be [X, Y, ANGLE] of the part in the nest's frame, within 360 degrees");
    place.nest_from_part = {at[0], at[1], degrees(at[2])};
  }
  place.shared = t.flag("shared", place.shared);
  if (t.has("z_mm")) place.z_mm = number_within(t, "z_mm", t.number("z_mm"), -farthest, farthest);
  t.done();
  return place;
}

std::vector<PartFromGrasp> grasps_of(const TomlTable& t) {
  std::vector<PartFromGrasp> grasps;
  if (!t.has("grasps")) return grasps;
  for (const auto& row : t.rows("grasps", 3)) {
    if (!(std::abs(row[0]) <= farthest && std::abs(row[1]) <= farthest && std::abs(row[2]) <= 360))
      t.refuse("grasps", "must be [[X, Y, ANGLE], ...] in the part's frame, within 360 degrees");
    grasps.emplace_back(row[0], row[1], WorldAngle(degrees(row[2])));
  }
  if (grasps.empty() || grasps.size() > most_grasps)
    t.refuse("grasps", fmt::format("must be from 1 to {} grasps", most_grasps));
  return grasps;
}

}  // namespace heron
