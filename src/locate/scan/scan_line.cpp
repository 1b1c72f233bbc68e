#include "scan_line.hpp"

#include <algorithm>
#include <cmath>
#include <optional>

#include "geometry/robust_fit.hpp"
#include "step_fit.hpp"

namespace heron {
namespace {

/// Variance of where one strip meets an edge because the brightness on its two sides is uneven: what strips
/// twelve pixels apart differ by beyond their noise, robustly, is what a side changes by across the edge,
/// too, and a ramp moves a step.
double uneven_variance(const std::vector<Strip>& strips, const LineEdge& line, double pixel_noise) {
  constexpr int near = 3, far = 8, apart = 2;  // pixels from the edge; strips
  // A step of a usual lens' blur, fitted to five pixels on either side, moves by some 4.5 times the ramp over
  // the contrast.
  constexpr double moves = 4.5 / 12;
  const auto level = [&](const Strip& strip, int side) -> std::optional<double> {
    const auto n = static_cast<int>(strip.profile.size());
    const auto at = static_cast<int>(std::lround(line.edge.at + line.slope * strip.across));
    const int first = side < 0 ? at - far : at + near;
    if (first < 0 || first + far - near >= n) return std::nullopt;
    double sum = 0;
    for (int k = first; k <= first + far - near; ++k) sum += strip.profile[static_cast<size_t>(k)];
    return sum / (far - near + 1);
  };
  double variance = 0;
  for (const int side : {-1, 1}) {
    std::vector<double> steps;
    double lanes = 0;
    for (size_t i = 0; i + apart < strips.size(); ++i)
      if (const auto a = level(strips[i], side), b = level(strips[i + apart], side); a && b)
        steps.push_back(*b - *a), lanes += strips[i].lanes;
    if (steps.size() < 3) continue;
    const double step = 1.4826 * median_size(steps),
                 noise = 2 * pixel_noise * pixel_noise /
                         (lanes / static_cast<double>(steps.size()) * (far - near + 1));
    variance += std::max(0.0, step * step - noise);
  }
  return moves * moves * variance / (line.edge.contrast * line.edge.contrast);
}

}  // namespace

LineEdge line_through(const Scan& scan, const std::vector<Strip>& strips, const ScanEdge& edge,
                      double pixel_noise, double slope, int again) {
  LineEdge line{.edge = edge, .slope = slope};
  if (strips.size() < 2) return line;
  const auto count = static_cast<double>(strips.size());
  std::vector<FitRow<2>> points;  // along = at + slope * across
  const double least = 0.35 * std::abs(edge.contrast);
  std::vector<StepSearch> searches;
  searches.reserve(strips.size());
  for (const Strip& strip : strips)
    searches.push_back({.profile = &strip.profile,
                        .round = scan.round(),
                        .start = edge.at + slope * strip.across + scan.bend(slope, strip.across),
                        .reach = 5,
                        .noise = pixel_noise / std::sqrt(static_cast<double>(strip.lanes)),
                        .least = least,
                        .skew = &strip.skew});
  const auto fitted = fit_steps(searches);
  for (size_t i = 0; i < strips.size(); ++i) {
    const auto& met = fitted[i];
    if (!met || met->contrast * edge.contrast <= 0 || std::abs(met->contrast) < least) continue;
    points.push_back(
        {{1, strips[i].across}, met->at - scan.bend(slope, strips[i].across), std::max(met->sigma, 0.003)});
  }
  const auto fit = points.size() < 2
                       ? RobustFit<2>{}
                       : fit_robustly<2>(points, {edge.at, slope}, {.least = 0.05, .first = 3, .rounds = 8});
  if (!fit.determined) {
    line.seen = static_cast<double>(points.size()) / count;
    return line;
  }
  // Strips scatter by chance, too: what is beyond it says that their sigmas are too small.
  const double free = std::max(static_cast<double>(points.size()) - 2, 1.0),
               scatter = fit.scatter * fit.scatter;
  const double beyond = 1 + std::max(0.0, scatter - 1 - std::sqrt(2 / free));
  const Eigen::Matrix2d covariance = fit.covariance * (beyond / std::max(1.0, scatter));
  line.edge.at = fit.unknowns[0], line.edge.sigma = std::sqrt(covariance(0, 0));
  line.slope = fit.unknowns[1], line.slope_sigma = std::sqrt(covariance(1, 1));
  line.shared = covariance(0, 1);
  // Strips far out were looked for beside a line that lies at a slant.
  const double farthest = std::max(std::abs(strips.front().across), std::abs(strips.back().across));
  const double bent = scan.bend(line.slope, farthest) - scan.bend(slope, farthest);
  if (again > 0 && (std::abs(line.slope - slope) * farthest > 1 || std::abs(bent) > 0.002))
    return line_through(scan, strips, line.edge, pixel_noise, line.slope, again - 1);
  // Noise is each strip's own; unevenness is shared by strips within a stretch.
  constexpr double segment = 16;
  double own = 0, width = 0;
  for (const FitRow<2>& p : points) own += p.sigma * p.sigma / static_cast<double>(points.size());
  for (const Strip& strip : strips) width += strip.lanes / count;
  const double wider = 1 + uneven_variance(strips, line, pixel_noise) * segment / width / own;
  // What a step that is no Gaussian's, read between pixels, moves all strips by that meet it alike.
  constexpr double model = 0.001;
  line.edge.sigma = std::hypot(line.edge.sigma * std::sqrt(wider), model),
  line.slope_sigma *= std::sqrt(wider), line.shared *= wider;
  int on_line = 0;
  for (const FitRow<2>& p : points) {
    const bool on = std::abs(p.value - p.terms.dot(fit.unknowns)) < std::max(0.5, 4 * p.sigma);
    line.met.push_back({p.terms[1], p.value, p.sigma, on}), on_line += on;
  }
  line.seen = on_line / count;
  return line;
}

}  // namespace heron
