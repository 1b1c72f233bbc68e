#pragma once
#include <optional>
#include <string>
#include <vector>

#include "heron/base/point.hpp"
#include "heron/base/range.hpp"

namespace heron {

struct PlotAxis {
  std::string label = {};                   ///< with its unit
  std::optional<Range<double>> range = {};  ///< nothing: fits the data; an infinite end does too
  bool reversed = false;                    ///< grows downwards, as a picture's y
};

enum class PlotMark { rings, crosses, dots, line, dashed_line, bars };

/// Points of one kind; a point that is not finite interrupts a line.
struct PlotSeries {
  std::string label = {};  ///< in the legend; empty: not in it
  PlotMark mark = PlotMark::dots;
  std::vector<Point2> points = {};
};

/// A range of y that is shaded.
struct PlotBand {
  std::string label;
  Range<double> y;
};

/// Values over a regular grid, as colors with their scale; NaN is left blank.
struct PlotMap {
  std::string label;  ///< of the colors, with the unit
  int columns = 0, rows = 0;
  Range<double> x, y;               ///< centres of the first and of the last column, row
  std::vector<double> values = {};  ///< row by row
  std::optional<Range<double>> range = {};
  bool contours = false;  ///< lines of equal value, with their values
  bool numbers = false;   ///< each value as a number, in few large cells
};

struct Plot {
  std::string title = {};
  PlotAxis x = {}, y = {};
  std::vector<PlotSeries> series = {};
  std::vector<PlotBand> bands = {};
  std::optional<PlotMap> map = {};
  bool equal_scale = false;  ///< a unit is as long along x as along y
};

/// One or more plots on a sheet, `columns` side by side.
struct PlotSheet {
  std::string title = {};
  std::vector<Plot> plots = {};
  int columns = 1;
};

/// The data of a sheet as CSV with columns plot,series,x,y,value; `value` is a map's and empty elsewhere.
std::string plot_data(const PlotSheet& sheet);

/// Throws Error{invalid_argument} when `path` has an ending that `save_plot` does not write; before long
/// work.
void require_plot_file(const std::string& path);

/// Draws a sheet with gnuplot and writes it as .png (1280 x 800 pixels), .svg or .pdf, by the ending. With
/// `with_data` the numbers are written beside it, as FILE.csv. Throws Error{invalid_argument} for another
/// ending, Error{not_determined} when gnuplot is not installed (Debian: gnuplot-nox) or fails. Cost: about
/// 0.3 s, most of it gnuplot's start.
void save_plot(const std::string& path, const PlotSheet& sheet, bool with_data = false);

}  // namespace heron
