#pragma once
#include <optional>
#include <string>
#include <vector>

#include "heron/geometry/board_shape.hpp"
#include "heron/image/image.hpp"

namespace heron {

/// One point of a board as seen in a picture.
struct BoardPoint {
  int column = 0, row = 0;
  Point2 pixel;
};

/// A board seen in a picture, or the reason why it was not.
struct BoardSeen {
  bool found = false;
  std::string reason;              ///< when not found: what was seen and what was asked for
  std::vector<BoardPoint> points;  ///< row by row; a few may be missing
  bool marked = false;             ///< the origin was read from the board's mark
  double dot_radius_px = 0;        ///< median, dots only
};

/// Finds a board of known shape at any angle and a slant up to 45 degrees.
///
/// Points are labelled by growing a lattice from a seed. The labelling is right-handed as the camera sees it;
/// a mark as on our printed boards tells which corner is the origin; without one it is the corner, of those
/// that fit, nearest to the picture's bottom left. At most a quarter of the points may be hidden, and every
/// side must be in sight. Cost: some passes over the picture. Throws Error{invalid_argument} for an invalid
/// shape.
BoardSeen find_board(const ImageView<const uint8_t>& picture, const BoardShape& shape);

}  // namespace heron
