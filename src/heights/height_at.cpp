#include "heron/heights/height_at.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>

#include "geometry/robust_fit.hpp"
#include "heron/base/error.hpp"

namespace heron {
namespace {

constexpr size_t min_heights = 6;
constexpr double largest_radius_px = 2000;

}  // namespace

std::optional<HeightAt> height_at(const ImageView<const float>& map, Point2 place, double radius_px,
                                  double pitch_mm) {
  if (!(radius_px > 0 && radius_px <= largest_radius_px && pitch_mm > 0 && std::isfinite(pitch_mm)))
    fail_argument(
        fmt::format("height_at: a radius of {} pixels of {} mm; the radius must be above 0 and at most {}, "
                    "the pitch above 0",
                    radius_px, pitch_mm, largest_radius_px));
  if (!is_finite(place)) fail_argument("height_at: the place must be finite");
  std::vector<FitRow<3>> rows;
  std::vector<double> heights;
  double pixels = 0;
  for (int y = static_cast<int>(std::floor(std::clamp(place.y - radius_px, -1e6, 1e6)));
       y <= std::clamp(place.y + radius_px, -1e6, 1e6); ++y)
    for (int x = static_cast<int>(std::floor(std::clamp(place.x - radius_px, -1e6, 1e6)));
         x <= std::clamp(place.x + radius_px, -1e6, 1e6); ++x) {
      const Point2 from{x - place.x, y - place.y};
      if (norm(from) > radius_px) continue;
      ++pixels;
      if (!map.holds(x, y) || !std::isfinite(map(x, y))) continue;
      rows.push_back({{1, from.x * pitch_mm, from.y * pitch_mm}, map(x, y), 1});
      heights.push_back(map(x, y));
    }
  if (rows.size() < min_heights) return std::nullopt;
  // A plane of exact heights has no scatter; what lies within a thousandth of a millimetre lies on it.
  const auto fit = fit_robustly<3>(rows, {median(heights), 0, 0}, {.least = 1e-3, .sigmas_known = false});
  if (!fit.determined) return std::nullopt;
  size_t on = 0;
  for (const FitRow<3>& row : rows) on += std::abs(row.value - row.terms.dot(fit.unknowns)) <= fit.limit;
  if (on < min_heights) return std::nullopt;
  const double sx = fit.unknowns[1], sy = fit.unknowns[2], slope = std::hypot(sx, sy);
  const double variance = slope > 0 ? (sx * sx * fit.covariance(1, 1) + sy * sy * fit.covariance(2, 2) +
                                       2 * sx * sy * fit.covariance(1, 2)) /
                                          (slope * slope)
                                    : std::max(fit.covariance(1, 1), fit.covariance(2, 2));
  return HeightAt{.height_mm = fit.unknowns[0],
                  .sigma_mm = std::sqrt(std::max(fit.covariance(0, 0), 0.0)),
                  .tilt = radians(std::atan(slope)),
                  .sigma_tilt = radians(std::sqrt(std::max(variance, 0.0)) / (1 + slope * slope)),
                  .share = static_cast<double>(on) / pixels};
}

}  // namespace heron
