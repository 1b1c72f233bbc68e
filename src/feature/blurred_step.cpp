#include "blurred_step.hpp"

#include <array>
#include <cmath>
#include <numbers>

namespace heron {
namespace {

constexpr int cells_a_sigma = 64, cells_below = 6 * cells_a_sigma, cell_count = 2 * cells_below + 1;
constexpr double cell_width = 1.0 / cells_a_sigma;

/// Value and density at a place and how much they grow to the next, as cubics of the way there.
struct Cell {
  std::array<double, 4> value, density;
};

/// The cubic with those ends and slopes (a cell_width's length included in the slopes).
std::array<double, 4> cubic(double from, double to, double slope_from, double slope_to) {
  const double rise = to - from;
  return {from, slope_from, 3 * rise - 2 * slope_from - slope_to, slope_from + slope_to - 2 * rise};
}

std::array<Cell, cell_count> make_table() {
  const auto at = [](int i) {
    const double u = (i - cells_below) * cell_width;
    return BlurredStep{0.5 * std::erfc(-u / std::numbers::sqrt2),
                       std::exp(-0.5 * u * u) * (std::numbers::inv_sqrtpi / std::numbers::sqrt2)};
  };
  std::array<Cell, cell_count> table{};
  for (int i = 0; i < cell_count; ++i) {
    const BlurredStep a = at(i), b = at(i + 1);
    const double u = (i - cells_below) * cell_width, v = u + cell_width;
    table[static_cast<size_t>(i)] = {
        cubic(a.value, b.value, a.density * cell_width, b.density * cell_width),
        cubic(a.density, b.density, -u * a.density * cell_width, -v * b.density * cell_width)};
  }
  return table;
}

}  // namespace

BlurredStep blurred_step(double u) {
  static const std::array<Cell, cell_count> table = make_table();
  const double place = u * cells_a_sigma + cells_below;
  if (!(place > 0)) return {0, 0};
  if (place >= cell_count) return {1, 0};
  const int i = static_cast<int>(place);
  const double f = place - i;
  const Cell& c = table[static_cast<size_t>(i)];
  return {c.value[0] + f * (c.value[1] + f * (c.value[2] + f * c.value[3])),
          c.density[0] + f * (c.density[1] + f * (c.density[2] + f * c.density[3]))};
}

}  // namespace heron
