#pragma once
#include <cstddef>
#include <vector>

namespace heron {

/// The edges of one level as columns, the form that the search reads. Each column is filled up with copies of
/// its last value, so that whole vectors can be read.
struct EdgeColumns {
  size_t count = 0;
  std::vector<float> x, y, normal_x, normal_y;
  std::vector<int> cell;  ///< 8 x 8 pixels of the taught picture each; edges of one cell err together
  int cells = 0;
  std::vector<int> segment;  ///< edges near each other that point much the same way
  int segments = 0;
};

}  // namespace heron
