#include "heron/plot/gauge_plots.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>

namespace heron {
namespace {

constexpr size_t most_plots = 9;

std::string axis_label(const std::string& gauge, const std::string& unit) {
  return unit.empty() ? gauge : fmt::format("{}, {}", gauge, unit);
}

void add_limits(Plot& plot, const Limits& limits, double from, double to) {
  for (const auto& limit : {limits.min, limits.max})
    if (limit) plot.series.push_back({"", PlotMark::dashed_line, {{from, *limit}, {to, *limit}}});
}

int columns_for(size_t plots) { return plots > 4 ? 3 : plots > 1 ? 2 : 1; }

}  // namespace

PlotSheet learned_plot(const LearnedLimits& learned, const std::vector<ExamplePart>& parts) {
  PlotSheet sheet{
      .title = fmt::format(
          "limits learned from {} good (rings) and {} bad parts (crosses); dashed: proposed, shaded: the gap",
          learned.good_parts, learned.bad_parts)};
  for (const LearnedGauge& g : learned.gauges) {
    if (!g.proposed.any() || sheet.plots.size() == most_plots) continue;
    PlotSeries good{.mark = PlotMark::rings}, bad{.mark = PlotMark::crosses};
    double number = 0;
    for (const ExamplePart& p : parts) {
      ++number;
      for (const Reading& r : p.readings)
        if (r.gauge == g.gauge && !r.fixed && r.value)
          (p.good ? good : bad).points.push_back({number, *r.value});
    }
    Plot plot{.title = g.gauge, .x = {.label = "example part"}, .y = {.label = axis_label(g.gauge, g.unit)}};
    if (g.bad_above) plot.bands.push_back({"", {g.good_range.max, *g.bad_above}});
    if (g.bad_below) plot.bands.push_back({"", {*g.bad_below, g.good_range.min}});
    plot.series = {std::move(good), std::move(bad)};
    add_limits(plot, g.proposed, 0.5, number + 0.5);
    plot.x.range = Range<double>{0.5, std::max(1.5, number + 0.5)};
    sheet.plots.push_back(std::move(plot));
  }
  if (sheet.plots.empty()) sheet.title += ": nothing is proposed";
  sheet.columns = columns_for(sheet.plots.size());
  return sheet;
}

PlotSheet repeatability_plot(const std::vector<Repeatability>& gauges) {
  PlotSheet sheet{.title =
                      "repeated readings; line: mean, shaded: three standard deviations, dashed: limits"};
  for (const Repeatability& g : gauges) {
    if (g.readings.empty() || sheet.plots.size() == most_plots) continue;
    const double count = static_cast<double>(g.readings.size());
    Plot plot{.title = fmt::format("{}: standard deviation {:.3g} {}", g.gauge, g.within, g.unit),
              .x = {.label = "reading", .range = Range<double>{0.5, std::max(1.5, count + 0.5)}},
              .y = {.label = axis_label(g.gauge, g.unit)}};
    PlotSeries values{.mark = PlotMark::rings};
    for (size_t i = 0; i < g.readings.size(); ++i)
      values.points.push_back({static_cast<double>(i + 1), g.readings[i].value});
    plot.series = {std::move(values), {"", PlotMark::line, {{0.5, g.mean}, {count + 0.5, g.mean}}}};
    plot.bands.push_back({"", {g.mean - 3 * g.within, g.mean + 3 * g.within}});
    add_limits(plot, g.limits, 0.5, count + 0.5);
    sheet.plots.push_back(std::move(plot));
  }
  if (sheet.plots.empty()) sheet.title = "no readings";
  sheet.columns = columns_for(sheet.plots.size());
  return sheet;
}

}  // namespace heron
