#pragma once
#include <string>
#include <vector>

#include "heron/render/scene.hpp"

namespace heron::render {

// What lies on the inspection bench. Every part is drawn in its own frame, millimetres; its members are its
// true sizes.

/// A finished floor panel of 120 x 80 mm, one corner cut: two dark slots, a hole, a dark insert in the shape
/// of a kite.
struct BenchPanel {
  double slot_distance_mm = 70;  ///< between the slots' middle lines
  double slot_width_mm = 6;
  double hole_mm = 14;  ///< diameter
  Angle side_off = {};  ///< of the right side from a right angle with the lower one
  Point2 insert_off = {};    ///< of the insert from its place
  Angle insert_turned = {};
  double chip_mm = 0;  ///< depth of a chip in the lower side, twice as long; 0: none
  double bow_mm = 0;   ///< by which the upper side is bent at its middle

  static constexpr double width_mm = 120, height_mm = 80;
  static constexpr Point2 hole_at{0, 24}, insert_at{0, -6};
};

/// A notched trowel: teeth along its lower side.
struct BenchTrowel {
  int teeth = 10;
  double pitch_mm = 9, tooth_mm = 5, tooth_depth_mm = 7;
  int missing = 0;  ///< number of a tooth that is broken off, from 1; 0: none
  int moved = 0;    ///< number of a tooth that is off its place
  double moved_mm = 0;
};

/// A stencil disc with one notch in its rim and a printed kite that says where zero is.
struct BenchDisc {
  double radius_mm = 32;
  Angle notch = degrees(90);  ///< direction of the notch from the kite's tip
  double oval_mm = 0;         ///< by which the longest radius exceeds the mean one
};

/// A sample board: six glazed chips in a dark frame, three a row.
struct BenchBoard {
  std::vector<Tint> glazes = {};  ///< of the chips, row by row from the upper left; black: the chip is missing
  int number = 0;            ///< printed between the rows: three digits of seven bars; 0: none
  int moved = 0;             ///< number of a chip that is off its place, from 1
  Point2 moved_mm = {};
  static constexpr double chip_mm = 16, pitch_mm = 26;
  static constexpr double digit_mm = 6, number_mm = 16;  ///< height of a digit, width of all three
  static Point2 chip_at(int index);  ///< its middle, from 0
};
inline constexpr Tint teal_glaze{0.25, 0.85, 0.8}, amber_glaze{1.0, 0.7, 0.15}, rose_glaze{1.0, 0.45, 0.55};

std::vector<Piece> pieces_of(const BenchPanel& panel, const Pose2& table_from_part);
std::vector<Piece> pieces_of(const BenchTrowel& trowel, const Pose2& table_from_part);
std::vector<Piece> pieces_of(const BenchDisc& disc, const Pose2& table_from_part);
std::vector<Piece> pieces_of(const BenchBoard& board, const Pose2& table_from_part);

}  // namespace heron::render
