#pragma once
#include "heron/base/point.hpp"

namespace heron {

enum class BoardKind {
  dots,     ///< dark round dots on white; points are their centres
  checker,  ///< dark and bright squares; points are the inner corners
};

/// A calibration board: `columns` x `rows` points, `pitch_mm` apart. Point (i, j) lies at (i, j) * pitch; X
/// along the columns, Y along the rows, right-handed as the camera sees the board.
struct BoardShape {
  BoardKind kind = BoardKind::dots;
  int columns = 13, rows = 11;
  double pitch_mm = 18;

  /// Throws Error{invalid_argument} when there are fewer than 3 x 3 points, more than 200 along a side, or
  /// the pitch is not within 0.01..1000 mm.
  void require_valid() const;
  Point2 point(int column, int row) const { return {column * pitch_mm, row * pitch_mm}; }
};

/// How Able Heron prints its boards. One dark bar in the margin below the first points of the first row is
/// the mark: it lies elsewhere when the board is turned or mirrored, so it tells which corner is the origin
/// and whether the picture is mirrored. Boards without it serve as well.
struct PrintedBoard {
  static constexpr double dot_radius = 0.25;  ///< of the pitch
  static constexpr double bar_from = 0.0, bar_to = 2.0,
                          bar_half_width = 0.1;  ///< along X, and half across, in pitches

  /// Y of the bar's axis, in pitches.
  static double bar_y(BoardKind kind) { return kind == BoardKind::dots ? -0.8 : -1.4; }
  /// White border beyond the outermost points, in pitches.
  static double margin(BoardKind kind) { return kind == BoardKind::dots ? 1.3 : 1.9; }
};

}  // namespace heron
