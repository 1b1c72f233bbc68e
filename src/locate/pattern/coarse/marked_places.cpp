#include "marked_places.hpp"

#include <algorithm>

namespace heron {

MarkedPlaces::MarkedPlaces(size_t poses, int width, int height, int reach)
    : height_(height),
      reach_(reach),
      tiles_across_((static_cast<size_t>(width + 2 * reach) - 1) / tile_columns + 1),
      tiles_down_((static_cast<size_t>(height) - 1) / tile_rows + 1),
      tile_of_(poses * tiles_down_ * tiles_across_),
      rows_(tile_rows) {
  rows_.reserve(512 * tile_rows);  // as a few parts fill
}

void MarkedPlaces::mark_around(size_t pose, int x, int y) {
  const auto column = static_cast<size_t>(x), first = static_cast<size_t>(std::max(0, y - reach_)),
             last = static_cast<size_t>(std::min(height_ - 1, y + reach_));
  const uint64_t span = (uint64_t{2} << 2 * reach_) - 1;
  const size_t shift = column % tile_columns;
  const uint64_t more = shift ? span >> (tile_columns - shift) : 0;
  for (size_t row = first, end = 0; row <= last; row = end) {
    end = std::min(last + 1, (row / tile_rows + 1) * tile_rows);
    mark(pose, column, row, end, span << shift);
    if (more) mark(pose, column + tile_columns, row, end, more);
  }
}

void MarkedPlaces::mark(size_t pose, size_t column, size_t first, size_t end, uint64_t bits) {
  uint32_t& begin = tile_of_[tile(pose, column, first)];
  if (begin == 0) begin = static_cast<uint32_t>(rows_.size()), rows_.resize(rows_.size() + tile_rows);
  uint64_t* rows = rows_.data() + begin + first % tile_rows;
  for (size_t i = 0; i < end - first; ++i) rows[i] |= bits;
}

}  // namespace heron
