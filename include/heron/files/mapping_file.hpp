#pragma once
#include <optional>
#include <string>
#include <vector>

#include "heron/calibrate/plane.hpp"
#include "heron/calibrate/ring_anchor.hpp"
#include "heron/geometry/mapping.hpp"

namespace heron {

/// A mapping with its origin and its residuals.
struct MappingRecord {
  Mapping mapping;
  std::string made_from = "board";  ///< board, pose, lens, length, points, hand-eye
  std::string world = "board";      ///< what the world's frame is: board, picture, machine, robot, flange
  double rms_px = 0, sigma_px = 0;  ///< as in PlaneCalibration
  double largest_mm = 0, distortion_px = 0;
  std::vector<MappedPoint> points = {};
  std::optional<BoardShape> board = {};
  std::optional<Axes> axes = {};           ///< the user's zero and axes, apart from the calibration
  std::vector<RingAnchor> anchors = {};    ///< ring marks that carry the mapping along
  int width = 0, height = 0;               ///< of the pictures
  std::vector<std::string> pictures = {};  ///< names
  std::string date = {};                   ///< ISO 8601, UTC
};

/// What a plane calibration left, as a record without its pictures.
MappingRecord record_of(const PlaneCalibration& calibration);

/// Writes a TOML file that a person can read; docs/formats.md. Complete or not at all.
void save_mapping(const std::string& path, const MappingRecord& record);

/// Throws Error{bad_file} with line and column when it is no mapping file or cannot hold.
MappingRecord load_mapping(const std::string& path);

/// `+X`, `-X`, `+Y` or `-Y`, and back.
const char* name_of(AxisDirection direction);
std::optional<AxisDirection> axis_direction(const std::string& name);

}  // namespace heron
