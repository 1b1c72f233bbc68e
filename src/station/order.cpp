#include "heron/station/order.hpp"

#include <algorithm>
#include <functional>
#include <limits>

namespace heron {
namespace {

Point2 robot_place(const ReportedPart& part) { return {part.robot->x_mm, part.robot->y_mm}; }

double along(const ReportedPart& part, Point2 direction) {
  const Point2 p = robot_place(part);
  return p.x * direction.x + p.y * direction.y;
}

/// The smaller first; what has no place last.
void sort_by(std::vector<ReportedPart>& parts, const std::function<double(const ReportedPart&)>& value) {
  const auto key = [&](const ReportedPart& p) {
    return p.robot ? value(p) : std::numeric_limits<double>::infinity();
  };
  std::stable_sort(parts.begin(), parts.end(),
                   [&](const ReportedPart& a, const ReportedPart& b) { return key(a) < key(b); });
}

void sort_rows(std::vector<ReportedPart>& parts, Point2 direction, double row_mm) {
  const Point2 across{-direction.y, direction.x};
  sort_by(parts, [&](const ReportedPart& p) { return along(p, across); });
  for (size_t begin = 0; begin < parts.size() && parts[begin].robot;) {
    const double first = along(parts[begin], across);
    size_t end = begin;
    while (end < parts.size() && parts[end].robot && along(parts[end], across) - first <= row_mm) ++end;
    std::stable_sort(parts.begin() + static_cast<std::ptrdiff_t>(begin),
                     parts.begin() + static_cast<std::ptrdiff_t>(end),
                     [&](const ReportedPart& a, const ReportedPart& b) {
                       return along(a, direction) < along(b, direction);
                     });
    begin = end;
  }
}

}  // namespace

void order_parts(std::vector<ReportedPart>& parts, const OrderSettings& settings) {
  const Point2 direction = unit(settings.direction.turn());
  switch (settings.by) {
    case PartOrder::found:
      return;
    case PartOrder::score:
      return std::stable_sort(parts.begin(), parts.end(), [](const ReportedPart& a, const ReportedPart& b) {
        return a.detection.score > b.detection.score;
      });
    case PartOrder::nearest:
      return sort_by(parts, [&](const ReportedPart& p) { return distance(robot_place(p), settings.point); });
    case PartOrder::along:
      return sort_by(parts, [&](const ReportedPart& p) { return along(p, direction); });
    case PartOrder::rows:
      return sort_rows(parts, direction, settings.row_mm);
    case PartOrder::highest:
      return sort_by(parts, [](const ReportedPart& p) { return -p.robot->z_mm; });
  }
}

}  // namespace heron
