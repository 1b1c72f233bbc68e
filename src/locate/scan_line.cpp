#include "scan_line.hpp"

#include <algorithm>
#include <cmath>

#include "heron/geometry/robust_fit.hpp"

namespace heron {

LineEdge line_through(const std::vector<Strip>& strips, bool round, const ScanEdge& edge, double pixel_noise,
                      double slope, int again) {
  LineEdge line{.edge = edge, .slope = slope};
  if (strips.size() < 2) return line;
  const auto count = static_cast<double>(strips.size());
  std::vector<FitRow<2>> points;  // along = at + slope * across
  for (const Strip& strip : strips) {
    const double noise = pixel_noise / std::sqrt(static_cast<double>(strip.lanes));
    const auto met = step_near(strip.profile, round, edge.at + slope * strip.across, 5, noise);
    if (!met || met->contrast * edge.contrast <= 0 ||
        std::abs(met->contrast) < 0.35 * std::abs(edge.contrast))
      continue;
    points.push_back({{1, strip.across}, met->at, std::max(met->sigma, 0.003)});
  }
  const auto fit = points.size() < 2
                       ? RobustFit<2>{}
                       : fit_robustly<2>(points, {edge.at, slope}, {.least = 0.05, .first = 3, .rounds = 8});
  if (!fit.determined) {
    line.seen = static_cast<double>(points.size()) / count;
    return line;
  }
  line.edge.at = fit.unknowns[0], line.edge.sigma = std::sqrt(fit.covariance(0, 0));
  line.slope = fit.unknowns[1], line.slope_sigma = std::sqrt(fit.covariance(1, 1));
  line.shared = fit.covariance(0, 1);
  // Strips far out were looked for beside a line that lies at a slant.
  const double farthest = std::max(std::abs(strips.front().across), std::abs(strips.back().across));
  if (again > 0 && std::abs(line.slope - slope) * farthest > 1)
    return line_through(strips, round, line.edge, pixel_noise, line.slope, again - 1);
  const auto on_line = std::count_if(points.begin(), points.end(), [&](const FitRow<2>& p) {
    return std::abs(p.value - p.terms.dot(fit.unknowns)) < std::max(0.5, 4 * p.sigma);
  });
  line.seen = static_cast<double>(on_line) / count;
  return line;
}

}  // namespace heron
