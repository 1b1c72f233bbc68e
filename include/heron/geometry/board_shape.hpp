#pragma once
#include <utility>
#include <vector>

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

/// How Able Heron prints its boards. Marks in the margin tell which corner is the origin and whether the
/// picture is mirrored: below the first points of the first row one bar, to the right of the last column's
/// first points two dashes, above the last points of the last row three dashes. Turned or mirrored, each lies
/// where none of them belongs; any visible one is enough. Boards without marks serve as well.
struct PrintedBoard {
  static constexpr double dot_radius = 0.25;     ///< of the pitch
  static constexpr double bar_half_width = 0.1;  ///< across, in pitches

  /// A mark runs along the margin from `from` to `to`, in pitches from the first point; dashes and gaps are
  /// equally long.
  struct Mark {
    Point2 from, to;
    int dashes;
    /// Ends of the dash of that number, from 0.
    std::pair<Point2, Point2> dash(int number) const {
      const double parts = 2 * dashes - 1;
      return {from + (to - from) * (2 * number / parts), from + (to - from) * ((2 * number + 1) / parts)};
    }
  };
  static std::vector<Mark> marks(const BoardShape& board) {
    const double d = board.kind == BoardKind::dots ? 0.8 : 1.4, right = board.columns - 1,
                 top = board.rows - 1;
    return {{{0, -d}, {2, -d}, 1},
            {{right + d, 0}, {right + d, 2}, 2},
            {{right, top + d}, {right - 2, top + d}, 3}};
  }
  /// White border beyond the outermost points, in pitches.
  static double margin(BoardKind kind) { return kind == BoardKind::dots ? 1.3 : 1.9; }
};

}  // namespace heron
