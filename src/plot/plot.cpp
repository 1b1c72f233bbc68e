#include "heron/plot/plot.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>
#include <cmath>

#include "base/round_step.hpp"
#include "gnuplot.hpp"
#include "heron/base/error.hpp"
#include "heron/files/atomic_file.hpp"

namespace heron {
namespace {

/// A text for gnuplot, taken as it is.
std::string quoted(const std::string& text) {
  std::string safe = "'";
  for (const char c : text) {
    if (c == '\'') safe += '\'';
    safe += static_cast<unsigned char>(c) < 0x20 ? ' ' : c;
  }
  return safe + "'";
}

std::string number(double value) { return std::isfinite(value) ? fmt::format("{}", value) : "NaN"; }

std::string terminal_of(const std::string& path) {
  const std::string ending = path.substr(std::min(path.rfind('.'), path.size()));
  if (ending == ".png") return "set terminal pngcairo noenhanced size 1280,800 font 'DejaVu Sans,12'\n";
  if (ending == ".svg")
    return "set terminal svg noenhanced size 1280,800 dynamic font 'DejaVu Sans,14' background 'white'\n";
  if (ending == ".pdf") return "set terminal pdfcairo noenhanced size 10in,6.25in font 'DejaVu Sans,10'\n";
  fail_argument(fmt::format("'{}': a plot is written as .png, .svg or .pdf", path));
}

bool has_points(const PlotSeries& series) {
  return std::any_of(series.points.begin(), series.points.end(), [](Point2 p) { return is_finite(p); });
}

std::string axis_of(const char* name, const PlotAxis& axis, bool has_data) {
  const auto end = [](double value) { return std::isfinite(value) ? number(value) : std::string("*"); };
  std::string text = fmt::format("set {}label {}\n", name, quoted(axis.label));
  if (axis.range && (has_data || std::isfinite(axis.range->max - axis.range->min)))
    return text + fmt::format("set {}range [{}:{}]\n", name,
                              end(axis.reversed ? axis.range->max : axis.range->min),
                              end(axis.reversed ? axis.range->min : axis.range->max));
  if (!has_data) return text + fmt::format("set {}range [0:1]\n", name);
  // Room above and below what has no end given.
  const bool is_y = name == std::string_view("y");
  return text + fmt::format("set autoscale {}\n{}", name,
                            is_y ? "set offsets graph 0, 0, graph 0.05, graph 0.05\n" : "");
}

const char* style_of(PlotMark mark) {
  switch (mark) {
    case PlotMark::rings:
      return "points pointtype 6 pointsize 1.1 linewidth 1.6 linecolor '#0b6e99'";
    case PlotMark::crosses:
      return "points pointtype 2 pointsize 0.9 linewidth 1.6 linecolor '#b5470e'";
    case PlotMark::dots:
      return "points pointtype 7 pointsize 0.45 linecolor '#3d2a6b'";
    case PlotMark::line:
      return "lines linewidth 2 linecolor '#222222'";
    case PlotMark::dashed_line:
      return "lines dashtype 2 linewidth 1.6 linecolor '#222222'";
    default:
      return "boxes fillstyle solid 0.7 noborder linecolor '#5a9bb0'";
  }
}

/// The data as blocks that a plot refers to: $s0, $s1, ... and $map.
std::string blocks_of(const Plot& plot) {
  std::string text;
  for (size_t i = 0; i < plot.series.size(); ++i) {
    text += fmt::format("$s{} << END\n", i);
    for (const Point2& p : plot.series[i].points) text += number(p.x) + " " + number(p.y) + "\n";
    if (plot.series[i].points.empty()) text += "NaN NaN\n";
    text += "END\n";
  }
  if (!plot.map) return text;
  const PlotMap& map = *plot.map;
  const auto at = [](const Range<double>& r, int i, int n) {
    return n > 1 ? r.min + (r.max - r.min) * i / (n - 1) : r.min;
  };
  text += "$map << END\n";
  for (int j = 0; j < map.rows; ++j) {
    for (int i = 0; i < map.columns; ++i)
      text += fmt::format("{} {} {}\n", at(map.x, i, map.columns), at(map.y, j, map.rows),
                          number(map.values[static_cast<size_t>(j * map.columns + i)]));
    text += "\n";
  }
  return text + "END\n";
}

std::string map_settings(const PlotMap& map) {
  std::string text = fmt::format(
      "set palette defined (0 '#14194f', 1 '#1a6180', 2 '#4da673', 3 '#ccd966', 4 '#fffacc')\n"
      "set cblabel {}\n",
      quoted(map.label));
  if (map.range) text += fmt::format("set cbrange [{}:{}]\n", number(map.range->min), number(map.range->max));
  return text;
}

/// Lines of equal value as a block $lines, each with its value.
std::string contours_of(const PlotMap& map) {
  const Range<double> values = map.range.value_or(Range<double>{0, 1});
  const double step = round_step(values.max - values.min);
  return fmt::format(
      "set contour base\nunset surface\nset cntrparam levels incremental {},{},{}\n"
      "set table $lines\nsplot $map using 1:2:3\nunset table\nunset contour\nset surface\n",
      number(std::ceil(values.min / step) * step), number(step), number(values.max));
}

/// What is drawn of a map, as parts of a plot command.
std::vector<std::string> layers_of_map(const PlotMap& map) {
  std::vector<std::string> layers{"$map using 1:2:3 with image notitle"};
  if (map.contours) {
    layers.emplace_back("$lines using 1:2 with lines linewidth 1.4 linecolor '#ffffff' notitle");
    // One word a line, where it is long enough.
    layers.emplace_back("$lines using 1:2:(sprintf('%.3g', $3)) every 100000::30 with labels boxed notitle");
  }
  if (map.numbers)
    layers.emplace_back("$map using 1:2:($3 == $3 ? sprintf('%.1f', $3) : '-') with labels boxed notitle");
  return layers;
}

std::string bands_of(const Plot& plot) {
  std::string text;
  for (size_t i = 0; i < plot.bands.size(); ++i) {
    const PlotBand& band = plot.bands[i];
    text += fmt::format(
        "set object {} rectangle from graph 0, first {} to graph 1, first {} fillcolor '#dcebf0' fillstyle "
        "solid noborder behind\n"
        "set label {} {} at graph 0.99, first {} right offset 0, 0.8\n",
        i + 1, number(band.y.min), number(band.y.max), i + 1, quoted(band.label), number(band.y.min));
  }
  return text;
}

std::string script_of(const Plot& plot) {
  bool has_key = false;
  for (const PlotSeries& s : plot.series) has_key = has_key || !s.label.empty();
  std::string text = fmt::format(
      "reset\nset grid linecolor '#bbbbbb'\nset border linecolor '#444444'\n{}"
      "set style textbox opaque noborder fillcolor '#ffffff' margins 0.5, 0.5\n",
      has_key ? "set key outside below horizontal height 1\nset bmargin 6\n" : "unset key\n");
  const bool has_data = plot.map || std::any_of(plot.series.begin(), plot.series.end(), has_points);
  text += blocks_of(plot);
  text += fmt::format("set title {}\n", quoted(plot.title)) + axis_of("x", plot.x, has_data) +
          axis_of("y", plot.y, has_data);
  if (plot.equal_scale) text += "set size ratio -1\n";
  if (plot.map) text += map_settings(*plot.map) + "unset grid\n";
  if (plot.map && plot.map->contours) text += contours_of(*plot.map);
  std::vector<std::string> parts;
  if (plot.map) parts = layers_of_map(*plot.map);
  for (size_t i = 0; i < plot.series.size(); ++i) {
    const PlotSeries& one = plot.series[i];
    // Dots on a map must be read on dark colors.
    const bool on_map = plot.map && one.mark == PlotMark::dots;
    parts.push_back(
        fmt::format("{} with {} {}", has_points(one) ? fmt::format("$s{} using 1:2", i) : "NaN",
                    on_map ? "points pointtype 7 pointsize 0.4 linecolor '#e08a3c'" : style_of(one.mark),
                    one.label.empty() ? "notitle" : "title " + quoted(one.label)));
  }
  if (parts.empty()) parts.emplace_back("NaN notitle");
  return text + bands_of(plot) + fmt::format("plot {}\n", fmt::join(parts, ", \\\n  "));
}

}  // namespace

std::string plot_data(const PlotSheet& sheet) {
  const auto cell = [](const std::string& text) {
    std::string safe;
    for (const char c : text) safe += c == ',' || c == ';' || c == '\n' ? ' ' : c;
    return safe;
  };
  std::string text = "plot,series,x,y,value\n";
  for (const Plot& plot : sheet.plots) {
    for (const PlotSeries& s : plot.series)
      for (const Point2& p : s.points)
        text += fmt::format("{},{},{},{},\n", cell(plot.title), cell(s.label), p.x, p.y);
    if (!plot.map) continue;
    const PlotMap& m = *plot.map;
    for (int j = 0; j < m.rows; ++j)
      for (int i = 0; i < m.columns; ++i)
        text += fmt::format("{},{},{},{},{}\n", cell(plot.title), cell(m.label),
                            m.x.min + (m.x.max - m.x.min) * i / std::max(1, m.columns - 1),
                            m.y.min + (m.y.max - m.y.min) * j / std::max(1, m.rows - 1),
                            m.values[static_cast<size_t>(j * m.columns + i)]);
  }
  return text;
}

void require_plot_file(const std::string& path) { terminal_of(path); }

void save_plot(const std::string& path, const PlotSheet& sheet, bool with_data) {
  const auto columns = static_cast<size_t>(std::max(1, sheet.columns));
  const size_t rows = std::max<size_t>(1, (sheet.plots.size() + columns - 1) / columns);
  std::string script = "set encoding utf8\n" + terminal_of(path) + "set output output_file\n";
  if (sheet.plots.size() != 1 || !sheet.title.empty())
    script += fmt::format("set multiplot layout {},{} title {}\n", rows, columns, quoted(sheet.title));
  for (const Plot& plot : sheet.plots) script += script_of(plot);
  if (sheet.plots.size() != 1 || !sheet.title.empty()) script += "unset multiplot\n";
  script += "set output\n";
  write_file(path, run_gnuplot(script));
  if (with_data) write_file(path + ".csv", plot_data(sheet));
}

}  // namespace heron
