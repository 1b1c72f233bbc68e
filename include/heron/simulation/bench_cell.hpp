#pragma once
#include <map>
#include <string>
#include <vector>

#include "heron/geometry/board_shape.hpp"
#include "heron/render/bench_station.hpp"

namespace heron {

/// A part on the bench as it really is.
struct BenchPart {
  Pose2 table_from_part;
  std::string defect;  ///< the gauge that must find it bad: "slot distance"; empty: it is good
};

/// One picture of the bench.
struct BenchPicture {
  std::string file;
  std::vector<BenchPart> parts = {};
};

/// One family of parts: a picture of a good one that gauges are drawn on, and pictures of good and bad ones.
struct BenchFamily {
  std::string name;  ///< "panel", "trowel", "disc", "board"; "stack": height maps, a part each
  std::string reference;
  Pose2 reference_pose = {};  ///< table_from_part of the one that lies there
  std::vector<BenchPicture> pictures = {};
};

/// How parts of the bench are made.
struct BenchFilling {
  int pictures = 3;        ///< of each family, two parts in each; one pair of piles in a height map
  double bad_share = 0.5;  ///< of the parts that have a defect
  double defect_size = 2;  ///< times the tolerance
  double good_size = 0.5;  ///< times the tolerance, by which good parts are off at most
};

/// The inspection bench as files in a folder: board.png, a folder of pictures for each family, and
/// truth.json, which only the demo's last table reads.
struct BenchCell {
  std::string folder;
  CameraModel camera = {};
  BoardShape board = {};
  std::vector<BenchFamily> families = {};

  std::string path(const std::string& name) const { return folder + "/" + name; }
  const BenchFamily& family(const std::string& name) const;
  /// Where a point of the reference part of a family lies in its picture.
  Point2 pixel(const BenchFamily& family, Point2 of_part) const;
};

/// Tolerances of the bench's drawings, either side of the nominal size.
struct BenchTolerances {
  static constexpr double slot_distance_mm = 0.3, hole_mm = 0.25, side_deg = 0.3, insert_mm = 0.4,
                          insert_deg = 2, chip_mm = 1, pitch_error_mm = 0.4, notch_deg = 0.75,
                          roundness_mm = 0.4, step_mm = 0.6, slope_deg = 1;
};

/// Renders and writes everything; the camera is the same for every seed. The same seed gives the same bytes
/// of pixels. Throws Error{not_writable}.
BenchCell write_bench_cell(const std::string& folder, uint64_t seed, const BenchFilling& filling = {});

}  // namespace heron
