#include "scan_line.hpp"

#include <algorithm>
#include <cmath>

#include "heron/geometry/robust_fit.hpp"

namespace heron {

constexpr int strip_lanes = 6;  // of a band's width, for one point of the edge's line

LineEdge line_through(const Image<uint8_t>& picture, const Scan& scan, const ScanEdge& edge,
                      double pixel_noise, double slope) {
  LineEdge line{.edge = edge, .slope = slope};
  const int strips = scan.lanes() / strip_lanes;
  if (strips < 2) return line;
  std::vector<FitRow<2>> points;  // along = at + slope * across
  for (int i = 0; i < strips; ++i) {
    const int first = i * scan.lanes() / strips, end = (i + 1) * scan.lanes() / strips;
    const auto profile = profile_along(picture, scan, first, end);
    const double noise = pixel_noise / std::sqrt(static_cast<double>(end - first));
    const double across = 0.5 * (scan.lane(first) + scan.lane(end - 1));
    const auto met = step_near(profile, scan.round(), edge.at + slope * across, 5, noise);
    if (!met || met->contrast * edge.contrast <= 0 ||
        std::abs(met->contrast) < 0.35 * std::abs(edge.contrast))
      continue;
    points.push_back({{1, across}, met->at, std::max(met->sigma, 0.003)});
  }
  const auto fit = points.size() < 2
                       ? RobustFit<2>{}
                       : fit_robustly<2>(points, {edge.at, slope}, {.least = 0.05, .first = 3, .rounds = 8});
  if (!fit.determined) {
    line.seen = static_cast<double>(points.size()) / strips;
    return line;
  }
  line.edge.at = fit.unknowns[0], line.edge.sigma = std::sqrt(fit.covariance(0, 0));
  line.slope = fit.unknowns[1], line.slope_sigma = std::sqrt(fit.covariance(1, 1));
  line.shared = fit.covariance(0, 1);
  const auto on_line = std::count_if(points.begin(), points.end(), [&](const FitRow<2>& p) {
    return std::abs(p.value - p.terms.dot(fit.unknowns)) < std::max(0.5, 4 * p.sigma);
  });
  line.seen = static_cast<double>(on_line) / strips;
  return line;
}

}  // namespace heron
