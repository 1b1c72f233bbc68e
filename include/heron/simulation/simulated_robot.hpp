#pragma once
#include <map>
#include <optional>
#include <string>
#include <vector>

#include "heron/base/pose.hpp"
#include "heron/link/line_socket.hpp"

namespace heron {

/// A part as it really lies, in the robot's frame, at the point and angle where it should be gripped.
struct TruePart {
  std::string name;
  Pose2 robot_from_part;
};

/// What really lies there, picture by picture. Neither station nor link can read it.
struct RobotTruth {
  std::vector<std::vector<TruePart>> pictures;
};

RobotTruth load_truth(const std::string& path);
void save_truth(const std::string& path, const RobotTruth& truth);

/// How the stand-in behaves.
struct RobotSettings {
  bool listens = true;
  Address address = {};     ///< port 0 lets the system choose when it listens
  bool asks = false;        ///< asks for each part, instead of taking what the station sends
  std::string token = {};   ///< sent in its answer to the greeting
  double speed_mm_s = 500;  ///< along a straight line; 1 to 100000
  double time_scale = 1;    ///< factor by which its clock runs faster than real time
  Pose2 home{300, 0, {}};   ///< where it starts
  /// A file that holds what it must know after a restart, a line for each event; empty: it forgets. Lines are
  /// "SESSION word", "RESULT n COUNT c", the PART lines of it, "WENT n index" and "FINISHED n".
  std::string memory = {};
  std::vector<Pose2> looks = {};        ///< on an arm: its pose for each picture, sent with the question
  std::vector<int> setups = {};         ///< selected in turn, the first before the first result
  LineSocket::Duration timeout{10000};  ///< for the station to come, or to say something
};

/// One arrival.
struct Arrival {
  uint64_t result = 0;
  int index = 0;
  std::string name;
  Pose2 sent;            ///< the commanded pose
  bool matched = false;  ///< a true part of that name was left for it
  Point2 truth = {};     ///< where the true part lies
  double off_mm = 0;     ///< from it
  Angle off_angle = {};
  double travel_s = 0;  ///< on its own clock
};

/// What the robot went through.
struct RobotLog {
  std::vector<Arrival> arrivals;
  int results = 0;                 ///< distinct ones
  int repeats = 0;                 ///< results that came again and were not acted on
  int refused_lines = 0;           ///< lines it did not understand
  int left_lying = 0;              ///< true parts that it was never sent to
  std::vector<int> result_setups;  ///< by which the results were looked at, of a station with several set-ups
  std::string refusal;             ///< why the station refused its last line, where it did
  bool over = false;               ///< the station announced the end of results
};

/// A robot that is not there: it listens or connects, moves to each part at its speed, answers, and knows how
/// far from the truth it arrived. Moves take real time divided by `time_scale`.
class SimulatedRobot {
 public:
  /// Opens its port when it listens. Throws Error{invalid_argument} for settings out of range.
  SimulatedRobot(RobotSettings settings, RobotTruth truth);
  /// Where it listens.
  Address address() const;
  /// Works until the station sends END-OF-RESULTS, or is gone for longer than the timeout.
  RobotLog run();

 private:
  struct Session;
  RobotSettings settings_;
  RobotTruth truth_;
  std::optional<LineListener> listener_;
};

}  // namespace heron
