#pragma once
#include <optional>
#include <string>
#include <vector>

#include "heron/base/pose3.hpp"
#include "heron/calibrate/lens.hpp"

namespace heron {

/// Where the camera is.
enum class CameraMount {
  fixed,  ///< beside the robot, which carries the board
  arm,    ///< on the robot's flange; the board lies still
};

/// One stop of the robot: its reported flange pose, and the board's pose seen from the camera.
struct HandEyeSample {
  std::string name;
  Pose3 base_from_flange;
  Pose3 camera_from_board;
  /// Of camera_from_board: turn (rotation vector applied after it, radians), then shift (mm).
  Eigen::Matrix<double, 6, 6> covariance = Eigen::Matrix<double, 6, 6>::Identity() * 1e-12;
};

struct StopFit {
  double off_mm = 0;  ///< between the reported flange position and the one that the picture gives
  Angle off_angle;
  bool used = true;
};

/// The two constant poses with their covariance.
struct HandEyeCalibration {
  /// With the camera on the arm: flange_from_camera and base_from_board; fixed: base_from_camera and
  /// flange_from_board.
  Pose3 carrier_from_camera, other_from_board;
  /// Of carrier_from_camera: turn about the carrier's axes (radians), then shift (mm); then the same of
  /// other_from_board.
  Eigen::Matrix<double, 12, 12> covariance;
  double robot_sigma_mm = 0;  ///< what the robot's positions scatter by, an axis, from the residuals
  Angle robot_sigma_angle;    ///< and its angles
  double rms_mm = 0;          ///< of the stops, an axis
  Angle rms_angle;
  std::vector<StopFit> stops;
};

/// Hand-eye calibration: closed-form start (rotations first by quaternions, then positions by linear least
/// squares; Dornaika, Horaud, Simultaneous robot-world and hand-eye calibration, 1998), then all unknowns
/// together by least squares on the robot's poses, each weighed with the robot's scatter, which is estimated
/// along (variance components, Foerstner 1979), and with the sigma of the board's pose. A stop that fits far
/// worse than the others is left out.
///
/// Throws Error{not_determined} with fewer than 4 stops, or when all turns go about one axis (the position
/// along it is then free) or are smaller than 5 degrees; the message says which, and how to move.
HandEyeCalibration solve_hand_eye(const std::vector<HandEyeSample>& stops, CameraMount mount);

/// How a robot writes rotations.
enum class RotationForm {
  quaternion_wxyz,
  quaternion_xyzw,
  rotation_vector,
  // Euler angles about moving axes, in the order of the letters; "fixed axes XYZ" is the same as moving ZYX.
  xyz,
  xzy,
  yxz,
  yzx,
  zxy,
  zyx,
  xyx,
  xzx,
  yxy,
  yzy,
  zxz,
  zyz,
};

/// The form of that name (quaternion-wxyz, rotation-vector, zyx, ...), or nothing.
std::optional<RotationForm> rotation_form(const std::string& name);
std::string name_of(RotationForm form);
const std::vector<RotationForm>& all_rotation_forms();
/// Numbers of a rotation in that form: 4 or 3.
size_t numbers_in(RotationForm form);
/// Names of those numbers in a table: qw, qx, qy, qz; rx, ry, rz; or of Euler angles the axes in their order,
/// a second turn about the first axis with a 2: rz, ry, rz2.
std::vector<std::string> columns_of(RotationForm form);
/// The rotation written as `numbers` (angles in degrees when `in_degrees`). Nothing when they are no
/// rotation: a quaternion that is not of length one within 1%.
std::optional<Eigen::Quaterniond> rotation_of(RotationForm form, const std::vector<double>& numbers,
                                              bool in_degrees);

/// One pose as a robot writes it down: position, then the numbers of its rotation.
struct RobotPoseRow {
  Eigen::Vector3d position;
  std::vector<double> rotation;
};

/// How such a row is read.
struct RobotPoseReading {
  RotationForm form = RotationForm::zyx;
  bool in_degrees = true;
  double mm_per_unit = 1;  ///< 1000 for metres, 25.4 for inches
  bool inverted = false;   ///< the row is flange_from_base
};

/// Nothing when the numbers are no rotation.
std::optional<Pose3> pose_of(const RobotPoseRow& row, const RobotPoseReading& reading);
/// In words, as for an error message.
std::string words_of(const RobotPoseReading& reading);
/// What else would make rows and pictures fit that do not, or of which some do not, as they were read:
/// another form, unit or direction of the poses, the other mount, two rows swapped, or pictures in which the
/// board was read upside down; in words, nothing when none of these. How far robot and camera turn between
/// two stops does not depend on the mounting (Tsai, Lenz, A new technique for fully autonomous and efficient
/// 3D robotics hand/eye calibration, IEEE Transactions on Robotics and Automation 5, 1989), which leaves few
/// to be solved. Cost: at most some dozens of calibrations.
std::optional<std::string> explain_misfit(const std::vector<RobotPoseRow>& rows,
                                          const std::vector<HandEyeSample>& stops,
                                          const RobotPoseReading& given, CameraMount mount,
                                          Point2 board_middle);

/// The tool's centre of rotation on the plane from one part that stays in the gripper and is seen at several
/// wrist angles.
struct TurningCentre {
  Point2 centre_mm;      ///< in the frame the part was seen in
  Point2 part_mm;        ///< the part's place beside the centre at wrist angle 0
  bool turns_backwards;  ///< the wrist's angle grows the other way than the frame's
  double rms_mm = 0, sigma_mm = 0;
};
/// By linear least squares, both senses of turning tried. Throws Error{not_determined} with fewer than 3
/// angles or when they span less than 5 degrees.
TurningCentre find_turning_centre(const std::vector<Angle>& wrist, const std::vector<Point2>& seen_mm);

}  // namespace heron
