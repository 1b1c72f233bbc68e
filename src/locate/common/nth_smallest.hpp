#pragma once
#include <cstddef>
#include <vector>

namespace heron {

/// The n-th from 0 on of the values, were they sorted; `n` is less than their number, and none is NaN. For
/// some hundreds of values: the range of their bits, which sort as the values do, is halved until one is
/// left, and each time all are counted. Cost: some nanoseconds a value.
float nth_smallest(const std::vector<float>& values, size_t n);
float nth_smallest_plain(const std::vector<float>& values, size_t n);

/// The median, of an even number the upper of the two in the middle; 0 of none.
inline float median_of_some(const std::vector<float>& values) {
  return values.empty() ? 0 : nth_smallest(values, values.size() / 2);
}

}  // namespace heron
