#pragma once
#include <cmath>
#include <cstdint>
#include <map>
#include <optional>
#include <string>
#include <vector>

#include "heron/geometry/mapping.hpp"
#include "heron/locate/detection.hpp"
#include "heron/report/reading.hpp"

namespace heron {

/// How the robot takes a part.
struct ChosenGrasp {
  int number = 1;                                               ///< of the target's grasps, from 1
  std::optional<double> approach_z_mm = {}, retreat_z_mm = {};  ///< where the hand comes from and goes to
  /// The hand from above, picture coordinates, for drawing; what is in something's way is not `seen`.
  std::vector<Contour> hand = {};
};

/// Who a part is where a station follows what it sees, and how it moves.
struct PartTrack {
  int identity = 0;      ///< from 1, in the order in which they came
  uint64_t told_in = 0;  ///< number of the result in which it was sent before; 0: in none
  /// Millimetres a second in the frame that is sent, and the sigma of each; nothing where it is not known.
  std::optional<Point2> velocity = {}, sigma = {};
};

/// A part that was found, with its place in the frames that are known.
struct ReportedPart {
  Detection
      detection;  ///< its areas stand among its figures in square millimetres too when there is a mapping
  std::optional<UserPose> world;               ///< along the user's axes where they are set
  std::optional<RobotPose> robot;              ///< of the grasp
  std::optional<WidthDistance> distance = {};  ///< of a part whose size is known, from a known camera
  std::vector<UserPoint> points_mm =
      {};                               ///< of the detection's points, in the world; empty without a mapping
  std::vector<double> lengths_mm = {};  ///< of its lengths; empty without a mapping
  std::string withheld = {};            ///< why a station does not send it; empty: it does
  std::optional<Verdict> verdict = {};  ///< by its gauges' readings; nothing without gauges
  std::optional<ChosenGrasp> grasp =
      {};  ///< by which `robot` is the pose; nothing where grasps are not chosen
  std::optional<PartTrack> track = {};
  std::optional<RobotPose> place = {};  ///< of the hand where it puts the part down
};

/// One of a station's set-ups.
struct SetUpName {
  int number = 0;
  std::string name;
};

/// A quantity that has moved away from what it is as a rule.
struct DriftWarning {
  std::string quantity;                    ///< heron/report/watched.hpp
  double value = 0, usual = 0, limit = 0;  ///< its average now, what it was, and how far it may move
  std::string cause = {};                  ///< what is likely the reason
};

/// How the world of a mapping has moved with its ring marks since the mapping was made.
struct MarksMotion {
  Point2 shift_mm;                               ///< at the marks' middle, along the plane
  double lift_mm = 0;                            ///< of it, along the normal
  Angle turn, tilt;                              ///< about the normal; of the plane
  double sigma_shift_mm = 0, sigma_lift_mm = 0;  ///< of each coordinate
  Angle sigma_turn, sigma_tilt;
  std::vector<int> marks = {};  ///< identities of those that were seen
  bool earlier = false;         ///< in an earlier picture, and not looked for in this one

  double distance_mm() const { return std::hypot(shift_mm.x, shift_mm.y, lift_mm); }
};

/// Everything about one trigger: what is drawn, stored and sent.
struct Report {
  uint64_t number = 0;                  ///< counts a station's triggers from 1; 0 outside a station
  std::optional<SetUpName> setup = {};  ///< by which it was looked at; nothing where there is only one
  std::string picture;                  ///< its name
  double elapsed_ms = 0;                ///< from the picture in memory to the parts' poses
  std::vector<ReportedPart> parts;
  std::vector<Miss> misses;
  std::vector<ReportedPart> nests = {};  ///< where parts can be put
  std::vector<ScanProfile> profiles;
  std::map<std::string, double> watched = {};  ///< what is looked at beside the parts for drift
  std::vector<DriftWarning> drift = {};        ///< what has moved
  std::optional<MarksMotion> marks = {};       ///< nothing where no marks move the mapping
  std::string unusable = {};                   ///< why the picture could not be looked at; empty: it could
  bool complete = true;                        ///< false when the search was stopped: there may be more
  std::vector<Reading> readings = {};          ///< of the gauges, in their order, part by part
  std::optional<Verdict> verdict = {};         ///< of the picture; nothing without gauges
};

/// What is known of the frames; each may be missing.
struct Frames {
  const Mapping* mapping = nullptr;
  const Axes* axes = nullptr;  ///< the user's; world poses are reported in them
  const RobotFromWorld* robot_from_world = nullptr;
  const RobotFromUser* robot_from_user =
      nullptr;  ///< instead: the signs of the user's axes hold for the robot
};

/// Adds what was found of one target to a report: world poses at the part's height when there is a mapping,
/// robot poses of the grasp when there is a frame as well. A part whose pixel looks past the plane's horizon
/// keeps its picture pose alone. A part whose size is known is placed in space instead, wherever it stands:
/// one with four corners or more by its pose (its angle is that of its X axis seen from above), another on
/// its ray, facing the camera. Throws Error{invalid_argument} when the part has a height or a size and the
/// mapping is of a plane alone.
void add_result(Report& report, FindResult result, const Frames& frames, const PartGeometry& place = {});

}  // namespace heron
