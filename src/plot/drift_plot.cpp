#include "heron/plot/drift_plot.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <map>

namespace heron {
namespace {

constexpr size_t max_plots = 9, max_points = 2000;

std::string axis_of(const std::string& quantity) {
  static const std::map<std::string, const char*> units{
      {"score", "0 to 100"}, {"contrast", "grey levels"}, {"brightness", "grey levels"},
      {"elapsed_ms", "ms"},  {"saturation", "%"},         {"underexposure", "%"},
      {"uniformity", "%"},   {"sharpness", "px"},         {"noise", "grey levels"},
      {"glare", "spots"},    {"reference_x", "px"},       {"reference_y", "px"}};
  const auto at = units.find(quantity);
  return at == units.end() ? std::string() : at->second;
}

/// As a station averages: from what is usual where it is known.
std::vector<Point2> averaged(const QuantityCourse& q) {
  const double weight = 2.0 / (q.memory + 1);
  std::vector<Point2> averages;
  double average = q.usual.value_or(q.values.empty() ? 0 : q.values[0].y);
  for (const Point2& v : q.values) averages.push_back({v.x, average += weight * (v.y - average)});
  return averages;
}

/// The newest is always among them.
std::vector<Point2> evenly(const std::vector<Point2>& all) {
  const size_t step = (all.size() + max_points - 1) / max_points;
  if (step < 2) return all;
  std::vector<Point2> some;
  for (size_t i = (all.size() - 1) % step; i < all.size(); i += step) some.push_back(all[i]);
  return some;
}

/// In limits; negative where there is none.
double off(const QuantityCourse& q, double average) {
  return q.usual && q.limit && *q.limit > 0 ? std::abs(average - *q.usual) / *q.limit : -1;
}

}  // namespace

PlotSheet drift_plot(std::vector<QuantityCourse> quantities) {
  std::erase_if(quantities, [](const QuantityCourse& q) { return q.values.empty(); });
  const auto now = [](const QuantityCourse& q) { return off(q, averaged(q).back().y); };
  std::stable_sort(quantities.begin(), quantities.end(),
                   [&](const auto& a, const auto& b) { return now(a) > now(b); });
  const size_t shown = std::min(quantities.size(), max_plots);
  const bool any_usual =
      std::any_of(quantities.begin(), quantities.end(), [](const auto& q) { return q.usual && q.limit; });
  PlotSheet sheet{.title = fmt::format("dots: results; line: their average{}",
                                       any_usual ? "; shaded: what is usual" : ""),
                  .columns = shown > 4   ? 3
                             : shown > 1 ? 2
                                         : 1};
  for (size_t i = shown; i < quantities.size(); ++i)
    sheet.title += fmt::format("{}{}", i == shown ? "; not drawn: " : ", ", quantities[i].name);
  for (const QuantityCourse& q : quantities) {
    if (sheet.plots.size() == shown) break;
    const std::vector<Point2> averages = averaged(q);
    Plot plot{.title = fmt::format("{} {:.4g}", q.name, averages.back().y),
              .x = {.label = "number of the result"},
              .y = {.label = axis_of(q.name)},
              .series = {{.mark = PlotMark::dots, .points = evenly(q.values)},
                         {.mark = PlotMark::line, .points = evenly(averages)}}};
    if (q.usual && q.limit) {
      plot.title += fmt::format(", usual {:.4g} \u00b1 {:.2g}{}", *q.usual, *q.limit,
                                off(q, averages.back().y) > 1 ? ": drifts" : "");
      plot.bands.push_back({"", {*q.usual - *q.limit, *q.usual + *q.limit}});
    } else {
      plot.title += ", usual not known";
    }
    sheet.plots.push_back(std::move(plot));
  }
  if (sheet.plots.empty())
    sheet.plots.push_back(
        {.title = "no results", .x = {.label = "number of the result"}, .y = {.label = "value"}});
  return sheet;
}

}  // namespace heron
