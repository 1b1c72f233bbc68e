#pragma once
#include <cstddef>
#include <cstdint>
#include <vector>

namespace heron {

/// One bit for each place of each pose, with memory only for the tiles that hold a mark.
class MarkedPlaces {
 public:
  /// `reach`: how many columns and rows from a place a mark goes, at most 31.
  MarkedPlaces(size_t poses, int width, int height, int reach);

  /// Marks what lies within the reach of (x, y) in that pose. Cost: some nanoseconds a row.
  void mark_around(size_t pose, int x, int y);
  bool at(size_t pose, int x, int y) const {
    const auto column = static_cast<size_t>(x + reach_), row = static_cast<size_t>(y);
    return rows_[tile_of_[tile(pose, column, row)] + row % tile_rows] >> column % tile_columns & 1;
  }

 private:
  static constexpr size_t tile_columns = 64, tile_rows = 8;
  /// Columns are counted from the reach before the first.
  size_t tile(size_t pose, size_t column, size_t row) const {
    return (pose * tiles_down_ + row / tile_rows) * tiles_across_ + column / tile_columns;
  }
  /// In rows of one tile.
  void mark(size_t pose, size_t column, size_t first, size_t end, uint64_t bits);

  int height_, reach_;
  size_t tiles_across_, tiles_down_;
  std::vector<uint32_t> tile_of_;  ///< where its rows begin; of a tile without a mark, the empty first one
  std::vector<uint64_t> rows_;
};

}  // namespace heron
