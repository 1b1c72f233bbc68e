#pragma once
#include <algorithm>
#include <cmath>
#include <cstddef>
#include <vector>

namespace heron {

/// The median, of an even number the upper of the two in the middle; the values are shuffled. 0 of none.
/// Cost: linear.
template <class Number>
Number median(std::vector<Number>& values) {
  if (values.empty()) return 0;
  const auto middle = values.begin() + static_cast<std::ptrdiff_t>(values.size() / 2);
  std::nth_element(values.begin(), middle, values.end());
  return *middle;
}

/// Median of absolute values; the values are shuffled and lose their signs. 0 of none.
inline double median_size(std::vector<double>& values) {
  for (double& v : values) v = std::abs(v);
  return median(values);
}

}  // namespace heron
