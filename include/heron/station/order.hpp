#pragma once
#include <vector>

#include "heron/report/report.hpp"

namespace heron {

/// Which part is sent first.
enum class PartOrder {
  found,    ///< target by target, each the best score first
  score,    ///< the best score of all
  nearest,  ///< the nearest to a point
  along,    ///< along a direction: the one that comes first
  rows,     ///< row by row, each along the direction
  highest,  ///< the highest in z: the top of a pile
};
inline constexpr const char* part_order_words[] = {"found", "score", "nearest", "along", "rows", "highest"};

/// All in the frame that the station sends in.
struct OrderSettings {
  PartOrder by = PartOrder::found;
  Point2 point = {};          ///< millimetres, for `nearest`
  WorldAngle direction = {};  ///< for `along`, and of the rows; the first row lies furthest to its right
  double row_mm = 0;          ///< how far parts of one row may lie apart across it; for `rows`
};

/// Parts without a place in the robot's frame come last, and parts that are alike keep their order.
void order_parts(std::vector<ReportedPart>& parts, const OrderSettings& settings);

}  // namespace heron
