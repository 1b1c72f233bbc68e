#pragma once
#include <string>

#include "heron/geometry/board_shape.hpp"
#include "heron/geometry/ring_shape.hpp"

namespace heron {

/// Of the paper that a board takes, in millimetres.
struct SheetSize {
  double width, height;
  /// On its side or upright, with 5 mm that printers leave white.
  bool fits_a4() const;
};
SheetSize sheet_size(const BoardShape& shape);

/// A calibration board to print, as the content of a file: `ending` is .pdf, .svg or .png (the latter at
/// `dots_per_inch`). True to size, with the board's mark, its data as text and a bar of known length each
/// way to measure the print by. Throws Error{invalid_argument} for another ending, or a sheet larger than 3 m
/// or 200 million pixels.
std::string board_sheet(const BoardShape& shape, const std::string& ending, double dots_per_inch = 300);

/// A ring mark to print, with its identity as text, in the same way.
std::string ring_sheet(const RingShape& ring, const std::string& ending, double dots_per_inch = 300);

}  // namespace heron
