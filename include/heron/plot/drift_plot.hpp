#pragma once
#include <optional>
#include <string>
#include <vector>

#include "heron/plot/plot.hpp"

namespace heron {

/// How a watched quantity of a station went, result after result.
struct QuantityCourse {
  std::string name = {};
  std::vector<Point2> values = {};  ///< number of the result, value
  int memory = 50;                  ///< results over which is averaged
  /// What it is like as a rule, and how far its average may move; nothing while that is learned.
  std::optional<double> usual = {}, limit = {};
};

/// A plot a quantity: values as dots, their average as a line, and the range within its limit shaded; at most
/// nine, those first whose average is now farthest off by their limits. Of each at most 2000 values are
/// drawn, evenly chosen.
PlotSheet drift_plot(std::vector<QuantityCourse> quantities);

}  // namespace heron
