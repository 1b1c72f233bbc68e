#include "heron/geometry/board_shape.hpp"

#include <fmt/format.h>

#include "heron/base/error.hpp"

namespace heron {

void BoardShape::require_valid() const {
  if (columns < 3 || rows < 3 || columns > 200 || rows > 200)
    fail_argument(fmt::format("board: {} x {} points; columns and rows go from 3 to 200", columns, rows));
  if (!(pitch_mm >= 0.01 && pitch_mm <= 1000))
    fail_argument(fmt::format("board: a pitch of {} mm; it goes from 0.01 to 1000 mm", pitch_mm));
}

}  // namespace heron
