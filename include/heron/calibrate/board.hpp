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
  bool marked = false;             ///< the origin was read from one of the board's marks
  bool whole = true;               ///< all sides are visible; otherwise only a part of the board is
  double dot_radius_px = 0;        ///< median, dots only
};

struct BoardSearch {
  /// Accepts a part of a board without a visible mark: which part is then unknown, and numbering begins at 0.
  /// Enough to learn a lens from, since that does not depend on where a board's zero lies; not enough for a
  /// plane.
  bool any_part = false;
};

/// Finds a board of known shape at any angle and a slant up to 45 degrees.
///
/// Points are labelled by growing a lattice from a seed. The labelling is right-handed as the camera sees it;
/// the marks of our printed boards tell which corner is the origin, and which part it is when the board lies
/// partly outside the picture or is partly covered; any one mark will do. Without a mark every side must be
/// in sight, and the origin is the corner, of those that fit, nearest to the picture's bottom left. Of the
/// part in sight, at most a quarter of the points may be hidden, and 4 x 4 must be left. Cost: some passes
/// over the picture. Throws Error{invalid_argument} for an invalid shape.
BoardSeen find_board(const ImageView<const uint8_t>& picture, const BoardShape& shape,
                     const BoardSearch& search = {});

}  // namespace heron
