#pragma once
#include <cstdint>
#include <string>
#include <vector>

#include "heron/base/pose3.hpp"
#include "heron/geometry/board_shape.hpp"
#include "heron/geometry/camera_model.hpp"
#include "heron/geometry/ring_shape.hpp"

namespace heron {

/// A camera on a robot's arm that looks at a checkerboard on the table from several stops, as files in a
/// folder: the pictures stop-01.png ..., and poses.csv with what the robot says where its flange was (x, y, z
/// in mm; Euler angles about moving axes z, y, x in degrees). Three ring marks lie on the table beside the
/// board; moved.png shows them from where stop-01.png was taken after the table was shifted and turned along
/// its plane, bumped.png after the camera was bumped into.
struct ArmCell {
  std::string folder;
  BoardShape board{.kind = BoardKind::checker, .columns = 11, .rows = 8, .pitch_mm = 15};
  Lens lens;  ///< the truth, as all below
  Pose3 flange_from_camera;
  Pose3 robot_from_board;
  std::vector<Pose3> robot_from_flange;
  std::vector<RingShape> marks;
  std::vector<Pose2> board_from_mark;
  Pose3 camera_from_board;  ///< at stop-01
  Pose2 old_from_moved;     ///< in the board's frame
  Pose3 camera_from_board_bumped;

  std::string path(const std::string& name) const { return folder + "/" + name; }
};

/// Renders and writes everything; the same seed gives the same bytes of pixels. The robot errs by 0.05 mm and
/// 0.02 degrees an axis. Throws Error{invalid_argument} for fewer than 1 or more than 99 stops,
/// Error{not_writable}.
ArmCell write_arm_cell(const std::string& folder, uint64_t seed, int stops = 12);

}  // namespace heron
