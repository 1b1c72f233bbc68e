#pragma once
#include <optional>
#include <string>
#include <vector>

#include "heron/base/frame.hpp"
#include "heron/base/range.hpp"

namespace heron {

/// Something in the cell that does not move: a wall of a bin, a clamp.
struct Wall {
  std::string name;
  std::vector<RobotPoint> corners = {};  ///< of a convex shape seen from above, three or more
  double top_mm = 0;                     ///< above the table
};

/// The hand that grips, as it stands in the way of others; docs/grasps.md. Its X axis is that of the grasp.
/// Fingers stand around the grasp at equal angles, the first on +X, and close towards it.
struct GripperSettings {
  int fingers = 2;     ///< 0: a cup that takes the part from above
  double open_mm = 0;  ///< between the inner faces when it comes down
  std::optional<double> closed_mm =
      {};                   ///< when it holds the part; nothing: where they move is not looked at
  Point2 finger_mm = {};    ///< thickness, in the direction in which it closes, and width
  double depth_mm = 0;      ///< of the tips below the grasp
  double length_mm = 0;     ///< of a finger, from its tip to the palm
  Point2 palm_mm = {};      ///< along the hand's X and Y axes; zero: none
  double clearance_mm = 0;  ///< that stays free around all of it
  int turns = 1;            ///< in a full turn, at which the hand grips the same way
  Range<double> wrist_deg = {-180, 180};   ///< angles that it can take in the frame that is sent
  std::optional<double> approach_mm = {};  ///< above the grasp, where it comes from
  std::optional<double> retreat_mm = {};   ///< above the grasp, where it goes afterwards
  std::vector<RobotPoint> reach = {};      ///< corners of the region where it may grip; empty: everywhere
  std::vector<Wall> walls = {};
  std::string table =
      {};  ///< picture of the empty table, for a fixed camera; empty: only targets are obstacles
  double table_levels = 25;  ///< grey levels that a pixel of it may differ by
};

/// Where a part is put: on a second target that lies in the same picture.
struct PlaceSettings {
  std::string target = {};          ///< file of the nest
  Pose2 nest_from_part = {};        ///< of a part that lies in it; millimetres, in the nest's own frame
  bool shared = false;              ///< all parts go to the best nest; otherwise each to one of its own
  std::optional<double> z_mm = {};  ///< of the grasp above the nest's face; nothing: as above the table
};

}  // namespace heron
