#pragma once
#include <cmath>
#include <optional>

namespace heron {

/// Whether a value with these derivatives by x and by y can be known: what is unknown must not move it.
inline bool is_known(double by_x, double by_y, const std::optional<double>& x,
                     const std::optional<double>& y) {
  constexpr double negligible = 1e-9;
  return (x || std::abs(by_x) <= negligible * std::abs(by_y)) &&
         (y || std::abs(by_y) <= negligible * std::abs(by_x));
}

}  // namespace heron
