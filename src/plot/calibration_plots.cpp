#include "heron/plot/calibration_plots.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <limits>
#include <numbers>

#include "heron/base/error.hpp"

namespace heron {
namespace {

PlotAxis pixels(const char* label, int size, bool reversed = false) {
  return {.label = label, .range = Range<double>{-0.5, size - 0.5}, .reversed = reversed};
}

/// The range of colors: a horizon would take them all, so the highest twentieth shares the brightest.
std::optional<Range<double>> color_range(std::vector<double> values) {
  std::erase_if(values, [](double v) { return !std::isfinite(v); });
  if (values.empty()) return std::nullopt;
  std::sort(values.begin(), values.end());
  const double low = values.front(), high = values[(values.size() - 1) * 95 / 100];
  return Range<double>{low, std::max(high, low * (1 + 1e-6) + 1e-12)};
}

}  // namespace

PlotSheet sigma_plot(int width, int height, const Mapping& mapping, const std::vector<MappedPoint>& points) {
  const double step = std::max(width, height) / 80.0;
  PlotMap map{.label = "sigma, mm",
              .columns = static_cast<int>(std::floor(width / step)) + 1,
              .rows = static_cast<int>(std::floor(height / step)) + 1,
              .x = {-0.5, width - 0.5},
              .y = {-0.5, height - 0.5},
              .contours = true};
  for (int j = 0; j < map.rows; ++j)
    for (int i = 0; i < map.columns; ++i) {
      double sigma = std::numeric_limits<double>::quiet_NaN();
      try {
        const WorldPose p = mapping.world_pose({map.x.min + i * (map.x.max - map.x.min) / (map.columns - 1),
                                                map.y.min + j * (map.y.max - map.y.min) / (map.rows - 1)},
                                               {});
        const double both = std::hypot(*p.sigma.x, *p.sigma.y);
        if (both > 0) sigma = both;  // 0: a mapping without a covariance
      } catch (const Error&) {
        // Past the plane's horizon nothing is known.
      }
      map.values.push_back(sigma);
    }
  map.range = color_range(map.values);
  map.contours = map.range && map.range->max > 1.02 * map.range->min + 1e-9;
  PlotSeries made_from{.label = fmt::format("{} points that the mapping was made from", points.size()),
                       .mark = PlotMark::dots};
  for (const MappedPoint& p : points) made_from.points.push_back(p.pixel);
  if (points.empty()) made_from.label.clear();  // as one known length has none
  return {.plots = {{.title = map.range ? "standard uncertainty of a place on the work plane"
                                        : "the uncertainty of this mapping is not known",
                     .x = pixels("x, pixels", width),
                     .y = pixels("y, pixels", height, true),
                     .series = {std::move(made_from)},
                     .map = std::move(map),
                     .equal_scale = true}}};
}

PlotSheet residual_plot(int width, int height, const std::vector<MappedPoint>& points) {
  PlotSeries both{.mark = PlotMark::dots}, outwards{.mark = PlotMark::dots};
  const Point2 centre{0.5 * (width - 1), 0.5 * (height - 1)};
  double squares = 0, largest = 1e-6;
  for (const MappedPoint& p : points) {
    both.points.push_back(p.residual_px);
    outwards.points.push_back({distance(p.pixel, centre), norm(p.residual_px)});
    squares += dot(p.residual_px, p.residual_px);
    largest = std::max({largest, std::abs(p.residual_px.x), std::abs(p.residual_px.y)});
  }
  const auto n = static_cast<double>(std::max<size_t>(1, points.size()));
  const double sigma = std::max(1e-9, std::sqrt(squares / (2 * n)));
  constexpr int bins = 24;
  const double reach = 1.1 * largest, bin = 2 * reach / bins;
  PlotSeries counts{.label = "x and y together", .mark = PlotMark::bars},
      normal{.label = fmt::format("normal, sigma {:.4f} px", sigma), .mark = PlotMark::line};
  std::vector<double> count(bins);
  for (const MappedPoint& p : points)
    for (const double r : {p.residual_px.x, p.residual_px.y})
      ++count[static_cast<size_t>(std::clamp(std::floor((r + reach) / bin), 0.0, bins - 1.0))];
  for (int i = 0; i < bins; ++i)
    counts.points.push_back({-reach + (i + 0.5) * bin, count[static_cast<size_t>(i)]});
  for (int i = 0; i <= 100; ++i) {
    const double r = -reach + 2 * reach * i / 100;
    normal.points.push_back({r, 2 * n * bin * std::exp(-0.5 * r * r / (sigma * sigma)) /
                                    (sigma * std::sqrt(2 * std::numbers::pi))});
  }
  const Range<double> square{-reach, reach}, from_zero{0, std::numeric_limits<double>::infinity()};
  return {.title = fmt::format("residuals of {} points, seen minus mapped; rms {:.4f} px", points.size(),
                               std::sqrt(squares / n)),
          .plots = {{.title = "x against y",
                     .x = {.label = "residual in x, pixels", .range = square},
                     .y = {.label = "residual in y, pixels", .range = square},
                     .series = {std::move(both)},
                     .equal_scale = true},
                    {.title = "from the centre outwards",
                     .x = {.label = "distance from the picture's centre, pixels"},
                     .y = {.label = "length of the residual, pixels", .range = from_zero},
                     .series = {std::move(outwards)}},
                    {.title = "how often",
                     .x = {.label = "residual, pixels", .range = square},
                     .y = {.label = "number of coordinates", .range = from_zero},
                     .series = {std::move(counts), std::move(normal)}}},
          .columns = 2};
}

}  // namespace heron
