#pragma once
#include <cstddef>
#include <cstdint>
#include <vector>

namespace heron {

/// A place whose sum reached the limit.
struct RowHit {
  int x, y;
  uint8_t sum;
};

/// For every x < width, y < rows: the sum over k < count of features[k][y * stride + x]; places that reach
/// `limit` are appended to `hits` in reading order. No feature's value exceeds `most`, and count * most must
/// fit a byte: a block whose first half cannot reach the limit any more is left early.
void sum_rows(const uint8_t* const* features, int count, int most, std::ptrdiff_t stride, int width, int rows,
              uint8_t limit, std::vector<RowHit>& hits);

/// The same without vector instructions; what `sum_rows` is compared with.
void sum_rows_plain(const uint8_t* const* features, int count, int most, std::ptrdiff_t stride, int width,
                    int rows, uint8_t limit, std::vector<RowHit>& hits);

}  // namespace heron
