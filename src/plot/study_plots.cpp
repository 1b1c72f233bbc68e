#include "heron/plot/study_plots.hpp"

#include <fmt/format.h>

#include <cmath>
#include <limits>

namespace heron {

PlotSheet scores_plot(const std::vector<StudiedPicture>& pictures, const StudyAdvice& advice,
                      double min_score) {
  Plot plot{.title = fmt::format("scores of {} pictures", pictures.size()),
            .x = {.label = "number of the picture, in the recording's order",
                  .range = Range<double>{0.5, std::max(1.5, static_cast<double>(pictures.size()) + 0.5)}},
            .y = {.label = "score, 0 to 100", .range = Range<double>{0, 105}}};
  PlotSeries parts{.label = "parts", .mark = PlotMark::rings},
      others{.label = "everything else", .mark = PlotMark::crosses};
  for (size_t i = 0; i < pictures.size(); ++i)
    for (const StudiedFind& s : pictures[i].finds)
      (s.right ? parts : others).points.push_back({static_cast<double>(i + 1), s.score});
  const auto level = [&](double score) {
    return std::vector<Point2>{{plot.x.range->min, score}, {plot.x.range->max, score}};
  };
  if (advice.worst_right && advice.separated) {
    const double low = advice.best_wrong.value_or(25);  // what is below was not looked at
    plot.bands.push_back({advice.best_wrong ? fmt::format("gap: {:.1f} to {:.1f}", low, *advice.worst_right)
                                            : fmt::format("nothing else above {:g}; worst part {:.1f}", low,
                                                          *advice.worst_right),
                          {low, *advice.worst_right}});
  } else if (advice.worst_right) {
    plot.title += "; no gap: something else scores higher than the worst part";
  }
  plot.series = {std::move(parts),
                 std::move(others),
                 {fmt::format("min score now: {:g}", min_score), PlotMark::dashed_line, level(min_score)},
                 {fmt::format("proposed: {:g}", advice.options.min_score), PlotMark::line,
                  level(advice.options.min_score)}};
  return {.plots = {std::move(plot)}};
}

PlotSheet field_plot(const FieldMap& field, int width, int height) {
  PlotMap map{.label = "mean score",
              .columns = field.columns,
              .rows = field.rows,
              .x = {0.5 * width / field.columns - 0.5, width - 0.5 * width / field.columns - 0.5},
              .y = {0.5 * height / field.rows - 0.5, height - 0.5 * height / field.rows - 0.5},
              .range = Range<double>{50, 100},
              .numbers = true};
  for (const FieldMap::Place& place : field.places)
    map.values.push_back(place.count ? place.mean : std::numeric_limits<double>::quiet_NaN());
  Plot over{.title = fmt::format("mean score over the field of view; {} of {} places visited",
                                 field.visited(), field.places.size()),
            .x = {.label = "x, pixels", .range = Range<double>{-0.5, width - 0.5}},
            .y = {.label = "y, pixels", .range = Range<double>{-0.5, height - 0.5}, .reversed = true},
            .map = std::move(map),
            .equal_scale = true};
  const double corner = std::hypot(width, height) / 2,
               step = corner / static_cast<double>(std::max<size_t>(1, field.bands.size()));
  PlotSeries mean{.label = "mean", .mark = PlotMark::rings},
      lowest{.label = "lowest", .mark = PlotMark::crosses};
  for (size_t i = 0; i < field.bands.size(); ++i) {
    if (!field.bands[i].count) continue;
    const double at = (static_cast<double>(i) + 0.5) * step;
    mean.points.push_back({at, field.bands[i].mean}), lowest.points.push_back({at, field.bands[i].lowest});
  }
  Plot outwards{
      .title = "from the centre to the corner",
      .x = {.label = "distance from the picture's centre, pixels", .range = Range<double>{0, corner}},
      .y = {.label = "score, 0 to 100", .range = Range<double>{0, 105}},
      .series = {std::move(mean), std::move(lowest)}};
  return {.plots = {std::move(over), std::move(outwards)}, .columns = 2};
}

PlotSheet trends_plot(const std::vector<FigureTrend>& trends, size_t pictures) {
  PlotSheet sheet{
      .title = trends.empty() ? std::string("no trend: it needs parts in three pictures or more")
                              : fmt::format("{} pictures; a line is solid where the value changes", pictures),
      .columns = trends.size() > 1 ? 2 : 1};
  for (const FigureTrend& t : trends) {
    PlotSeries values{.mark = PlotMark::crosses},
        line{.mark = t.changes() ? PlotMark::line : PlotMark::dashed_line};
    for (const FigureTrend::Value& v : t.values)
      values.points.push_back({static_cast<double>(v.picture + 1), v.value});
    line.points = {{1, t.first}, {static_cast<double>(pictures), t.last}};
    sheet.plots.push_back(
        {.title = fmt::format("{}: change {:+.3g} ± {:.2g}", t.name, t.last - t.first, t.change_sigma),
         .x = {.label = "number of the picture",
               .range = Range<double>{0.5, static_cast<double>(pictures) + 0.5}},
         .y = {.label = t.name == "score"      ? "score, 0 to 100"
                        : t.name == "contrast" ? "contrast, grey levels"
                                               : t.name},
         .series = {std::move(values), std::move(line)}});
  }
  if (sheet.plots.empty())
    sheet.plots.push_back({.x = {.label = "number of the picture"}, .y = {.label = "value"}});
  return sheet;
}

}  // namespace heron
