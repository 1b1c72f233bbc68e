#pragma once
#include <string>
#include <vector>

#include "heron/calibrate/board.hpp"
#include "heron/calibrate/plane.hpp"
#include "heron/geometry/mapping.hpp"

namespace heron {

enum class MappingState {
  holds,    ///< the board is measured where it lay, within the sigmas
  moved,    ///< it lies elsewhere, but lengths still measure right: the board, or the camera along the plane,
            ///< was moved
  changed,  ///< lengths no longer measure right: the camera's height, tilt or lens is another
};

/// A new picture of the board held against an old mapping.
struct MappingCheck {
  MappingState state = MappingState::holds;
  Point2 shift_mm;            ///< of the board's middle, new minus old
  Angle turn;                 ///< of the board, new minus old
  double sigma_shift_mm = 0;  ///< of each coordinate of the shift
  Angle sigma_turn;
  double scale = 1;  ///< a length of 1 mm on the board now reads as this many
  double sigma_scale = 0;
  double shape_px = 0;              ///< root mean square of what no shift and turn explains
  double expected_px = 0;           ///< what noise alone would leave
  std::vector<MappedPoint> points;  ///< board points, residual: new minus where the old mapping has them
};

/// Measures a board with a mapping whose world is that board's frame. `points` and `dot_radius_px` (0 for
/// corners) from find_board in the new picture; `mapping_sigma_px` is the residual sigma the mapping was made
/// with. Throws Error{not_determined} with fewer than 9 points.
MappingCheck check_mapping(const Mapping& mapping, double mapping_sigma_px, const BoardShape& shape,
                           const std::vector<BoardPoint>& points, double dot_radius_px = 0);

}  // namespace heron
