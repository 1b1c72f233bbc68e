#pragma once
#include <chrono>
#include <optional>
#include <string>
#include <vector>

#include "heron/base/frame.hpp"
#include "heron/calibrate/ring_anchor.hpp"
#include "heron/locate/pattern.hpp"
#include "heron/station/drift.hpp"
#include "heron/station/gripper.hpp"
#include "heron/station/order.hpp"

namespace heron {

/// A target of a set-up: its file and what the set-up sets differently.
struct StationTarget {
  std::string file;
  std::optional<Range<Angle>> angle = {};
  std::optional<Range<double>> scale = {};
  std::optional<double> min_score = {}, min_contrast = {};
  std::optional<int> max_count = {};
  std::optional<Box> search = {};          ///< where origins may lie, picture coordinates
  std::vector<PartFromGrasp> grasps = {};  ///< allowed ones, the best first; empty: the taught one
};

/// Where the camera hangs.
enum class Mount {
  fixed,  ///< beside the robot
  arm,    ///< on its arm; the robot sends its pose with each question
};

/// How height maps are looked at; docs/heights.md.
struct HeightSettings {
  std::string ground = {};                    ///< file of the table's plane; empty: it is found in each map
  std::optional<Point2> pitch_mm = {};        ///< instead of what the maps say
  std::optional<Range<double>> band_mm = {};  ///< above the table; a part whose height lies outside is a miss
  double radius_mm = 3;      ///< of the disc about the grasp in which a part's height is measured
  double min_share = 0.5;    ///< of that disc which must be measured and lie on one surface
  double max_tilt_deg = 90;  ///< a part whose surface is tilted more is not sent
  double table_z_mm = 0;     ///< of the table in the robot's frame
};

/// How the ring marks of a mapping move it along; docs/marks.md.
struct MarksSettings {
  int every = 1;                        ///< pictures; 0: only the first after a selection of the set-up
  Motion motion = Motion::along_plane;  ///< what may have happened
  double max_shift_mm = 5;              ///< of the marks' middle; beyond it the station stops
  Angle max_turn = degrees(2);          ///< about any axis
};

/// What a station looks at and for: changed as a whole, between pictures. Paths are made relative to the
/// file's folder.
struct SetUp {
  int number = 0;           ///< by which it is selected; 0: the station's only one
  std::string name = {};    ///< empty for the station's only one
  std::string path = {};    ///< its own file; empty: it has none
  std::string camera = {};  ///< its address, as in Camera::info; recording:FOLDER for a recording
  std::optional<double> exposure_ms = {}, gain = {};  ///< set before its first picture; nothing: as they are
  std::chrono::milliseconds camera_timeout{10000};    ///< for a camera that fails, before the station ends
  std::string mapping = {};                    ///< may be empty for height maps, whose pixels have a size
  std::optional<MarksSettings> marks = {};     ///< nothing: the mapping stays as it is
  std::optional<HeightSettings> heights = {};  ///< of cameras that deliver height maps
  Mount mount = Mount::fixed;
  RobotFromWorld robot_from_world = {};    ///< of a fixed camera
  FlangeFromWorld flange_from_world = {};  ///< of one on the arm
  bool from_axes = false;  ///< both start from the mapping's zero and axes, not from its board
  std::vector<StationTarget> targets = {};
  std::string gauges = {};  ///< gauge file; empty: parts are found and not judged
  OrderSettings order = {};
  std::optional<GripperSettings> gripper = {};  ///< nothing: nothing is in a grasp's way
  std::optional<PlaceSettings> place = {};
  std::optional<DriftSettings> drift = {};  ///< nothing: slow changes are not watched
  bool quick = false;                       ///< skips the search beyond the limits for parts that they reject
};

}  // namespace heron
