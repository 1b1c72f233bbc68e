#include "rim_sector.hpp"

#include <algorithm>

namespace heron {

void RimSector::solve_light() {
  const Eigen::Vector2d levels = light.inverse() * light_right;
  inside = level + levels[0], outside = level + levels[1];
}

void RimSector::weigh(const RimSums& sum) {
  const double step = contrast(), in = inside - level, out = outside - level;
  for (int a = 0, k = 0; a < 6; ++a) {
    const auto at = static_cast<size_t>(a);
    for (int b = a; b < 6; ++b, ++k)
      normal(a, b) = normal(b, a) = step * step * sum.slopes[static_cast<size_t>(k)];
    mixed(a, 0) = step * sum.inside[at], mixed(a, 1) = step * sum.outside[at];
    right[a] = step * (sum.grey[at] - in * sum.inside[at] - out * sum.outside[at]);
  }
  const double of_light = in * (in * sum.light[0] + 2 * out * sum.light[1]) + out * out * sum.light[2],
               of_both = in * sum.light_grey[0] + out * sum.light_grey[1];
  squares = std::max(0.0, sum.grey_square - 2 * of_both + of_light);
  normal -= mixed * light.inverse() * mixed.transpose();
  if (normal(2, 2) > 1e-9) offset = right[2] / normal(2, 2);
}

RimParting::RimParting(std::vector<bool> seen_of_each) : seen(std::move(seen_of_each)) {
  for (size_t i = 0; i < count(); ++i)
    middles.push_back(
        unit(radians(2 * std::numbers::pi * (static_cast<double>(i) + 0.5) / static_cast<double>(count()))));
}

RimParting RimParting::halved() const {
  std::vector<bool> halves;
  for (const bool of_both : seen) halves.insert(halves.end(), 2, of_both);
  return RimParting(std::move(halves));
}

bool RimParting::all_seen() const { return std::find(seen.begin(), seen.end(), false) == seen.end(); }

bool RimParting::beside_unseen(size_t sector) const {
  return !seen[(sector + 1) % count()] || !seen[(sector + count() - 1) % count()];
}

}  // namespace heron
