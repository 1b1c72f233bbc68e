#pragma once
#include <cstdint>
#include <vector>

namespace heron {

/// Places of a row's changes: where runs of set (non-zero) pixels, or else of clear ones, begin and end.
struct RowChanges {
  explicit RowChanges(int row_width);
  int width;
  std::vector<uint64_t> words;  ///< a bit for each pixel, and at least one clear bit behind the last
  std::vector<int> places;      ///< from 0 to width; an even number of them count, others are left over
};

/// The columns at which `row`, taken as clear before its first pixel and behind its last, changes; returns
/// how many there are: first column of a run and the one behind it in turn. `set`: of set pixels' runs, or
/// else of clear ones'.
int row_changes(const uint8_t* row, bool set, RowChanges& changes);
/// The same pixel by pixel.
int row_changes_plain(const uint8_t* row, bool set, RowChanges& changes);

}  // namespace heron
