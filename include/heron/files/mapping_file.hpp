#pragma once
#include <string>
#include <vector>

#include "heron/calibrate/plane.hpp"

namespace heron {

/// A plane mapping with where it came from.
struct MappingRecord {
  PlaneCalibration calibration;
  BoardShape board;
  int width = 0, height = 0;          ///< of the pictures
  std::vector<std::string> pictures;  ///< names
  std::string date;                   ///< ISO 8601, UTC
};

/// Writes a TOML file that a person can read; docs/formats.md. Complete or not at all.
void save_mapping(const std::string& path, const MappingRecord& record);

/// Throws Error{bad_file} with line and column when it is no mapping file or cannot hold.
MappingRecord load_mapping(const std::string& path);

}  // namespace heron
