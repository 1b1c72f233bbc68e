#include "hand.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <limits>

#include "heron/image/region.hpp"

namespace heron {
namespace {

/// From `from` to `to` in place of the hand, turned about its grasp by `turn`.
std::vector<Point2> rectangle(const Pose2& pose, Angle turn, Point2 from, Point2 to) {
  std::vector<Point2> corners;
  for (const Point2 p : {from, {to.x, from.y}, to, {from.x, to.y}})
    corners.push_back(pose * rotated(p, turn));
  return corners;
}

/// Whether an edge of `a` has all of `b` on its outer side.
bool separates(const std::vector<Point2>& a, const std::vector<Point2>& b) {
  const Point2 middle = (a[0] + a[1] + a[2]) / 3;
  for (size_t i = 0; i < a.size(); ++i) {
    const Point2 from = a[i], along = a[(i + 1) % a.size()] - from;
    const double inner = cross(along, middle - from) < 0 ? -1 : 1;
    if (std::all_of(b.begin(), b.end(), [&](Point2 p) { return inner * cross(along, p - from) <= 0; }))
      return true;
  }
  return false;
}

/// Convex shapes overlap unless an edge of one of them separates them.
bool overlap(const std::vector<Point2>& a, const std::vector<Point2>& b) {
  return !separates(a, b) && !separates(b, a);
}

/// Whether the part covers a pixel, or its blurred edge does.
bool on_part(const std::vector<Point2>& part, Point2 p) {
  constexpr double edge_px = 2.5;
  if (part.size() < 3) return false;
  if (Region::polygon(part).contains(p)) return true;
  for (size_t i = 0; i < part.size(); ++i) {
    const Point2 from = part[i], along = part[(i + 1) % part.size()] - from;
    const double t = std::clamp(dot(p - from, along) / dot(along, along), 0.0, 1.0);
    if (distance(p, from + along * t) <= edge_px) return true;
  }
  return false;
}

/// The pixels of a height map below a piece.
struct Below {
  double count = 0, measured = 0;  ///< pixels
  int higher = 0;
  bool part_alone = true;  ///< all that is higher belongs to the part itself
  float highest = -std::numeric_limits<float>::infinity();
};

/// With three neighbours as high at least: a spike of the sensor stands alone.
bool is_higher(const Image<float>& map, int x, int y, double bottom_mm) {
  int with = 0;
  for (int j = std::max(0, y - 1); j <= std::min(map.height() - 1, y + 1); ++j)
    for (int i = std::max(0, x - 1); i <= std::min(map.width() - 1, x + 1); ++i)
      with += map(i, j) > bottom_mm;
  return map(x, y) > bottom_mm && with >= 4;
}

std::vector<Point2> pixels_of(const std::vector<Point2>& corners, const MeasuredHeights& heights) {
  std::vector<Point2> pixels;
  for (const Point2 p : corners)
    if (const auto pixel = heights.pixel_of(p)) pixels.push_back(*pixel);
  return pixels.size() == corners.size() ? pixels : std::vector<Point2>();
}

Below below(const HandPiece& piece, const MeasuredHeights& heights, const std::vector<Point2>& part) {
  const std::vector<Point2> corners = pixels_of(piece.corners, heights), own = pixels_of(part, heights);
  Below found;
  if (corners.empty()) return found;
  const Region region = Region::polygon(corners);
  const Box box = region.bounds();
  const int left = static_cast<int>(std::max(0.0, std::floor(box.x))),
            top = static_cast<int>(std::max(0.0, std::floor(box.y))),
            right = static_cast<int>(std::min<double>(heights.map.width() - 1, box.x + box.width)),
            bottom = static_cast<int>(std::min<double>(heights.map.height() - 1, box.y + box.height));
  int in_map = 0;
  for (int y = top; y <= bottom; ++y)
    for (int x = left; x <= right; ++x) {
      const Point2 p{static_cast<double>(x), static_cast<double>(y)};
      if (!region.contains(p)) continue;
      ++in_map;
      if (piece.on_part && on_part(own, p)) continue;
      ++found.count;
      const float height = heights.map(x, y);
      if (!std::isfinite(height)) continue;
      ++found.measured;
      if (!is_higher(heights.map, x, y, piece.bottom_mm)) continue;
      ++found.higher;
      found.part_alone = found.part_alone && on_part(own, p);
      found.highest = std::max(found.highest, height);
    }
  const double area = std::abs(cross(corners[2] - corners[0], corners[3] - corners[1])) / 2;
  found.count += std::max(0.0, area - in_map);  // what lies outside the map was not measured
  return found;
}

}  // namespace

std::vector<HandPiece> hand_at(const GripperSettings& g, const Pose2& pose, double z_mm,
                               double clearance_mm) {
  std::vector<HandPiece> hand;
  const double tip = z_mm - g.depth_mm, half = g.finger_mm.y / 2 + clearance_mm;
  const double inner = g.open_mm / 2, outer = inner + g.finger_mm.x;
  for (int i = 0; i < g.fingers; ++i) {
    const Angle turn = degrees(360.0 * i / g.fingers);
    const std::string name = fmt::format("finger {}", i + 1);
    hand.push_back(
        {name, rectangle(pose, turn, {inner - clearance_mm, -half}, {outer + clearance_mm, half}), tip});
    if (!g.closed_mm) continue;
    const double closed = *g.closed_mm / 2;  // further out for a hand that opens inside a ring
    const double from = std::min(closed, inner), to = std::max(closed + g.finger_mm.x, outer);
    hand.push_back(
        {name, rectangle(pose, turn, {from, -half}, {to + clearance_mm, half}), tip, "close on", true});
  }
  if (g.palm_mm.x > 0) {
    const Point2 corner = g.palm_mm / 2 + Point2{clearance_mm, clearance_mm};
    const bool cup = g.fingers == 0;
    hand.push_back({cup ? "the cup" : "the palm", rectangle(pose, {}, -corner, corner), tip + g.length_mm,
                    cup ? "touch" : "strike", cup, cup});
  }
  return hand;
}

std::string in_the_way(const std::vector<HandPiece>& hand, const std::vector<Obstacle>& obstacles) {
  for (const HandPiece& piece : hand)
    for (const Obstacle& o : obstacles)
      if (o.corners.size() >= 3 && o.top_mm >= piece.bottom_mm && overlap(piece.corners, o.corners))
        return fmt::format("{} would {} {}", piece.name, piece.would, o.name);
  return {};
}

std::string in_the_way(const std::vector<HandPiece>& hand, const MeasuredHeights& heights,
                       const std::vector<Point2>& part) {
  for (const HandPiece& piece : hand) {
    if (heights.low_only && !piece.low) continue;
    const Below found = below(piece, heights, part);
    if (found.higher > 0 && found.part_alone)
      return fmt::format("{} would {} the part itself", piece.name, piece.would);
    if (found.higher > 0 && found.highest >= some_height)
      return fmt::format("{} would {} something that the empty table does not have", piece.name, piece.would);
    if (found.higher > 0)
      return fmt::format("{} would {} something {:.1f} mm high", piece.name, piece.would, found.highest);
    if (found.measured < heights.min_share * found.count)
      return fmt::format("{:.0f} % of what lies below {} was measured, needed at least {:.0f} %",
                         100 * found.measured / found.count, piece.name, 100 * heights.min_share);
  }
  return {};
}

Image<float> heights_of(const ImageView<const uint8_t>& picture, const ImageView<const uint8_t>& table,
                        double levels) {
  constexpr int step = 4;
  constexpr uint8_t darkest = 8;  // whose ratio says something
  std::vector<float> ratios;
  for (int y = 0; y < table.height(); y += step)
    for (int x = 0; x < table.width(); x += step)
      if (table(x, y) >= darkest) ratios.push_back(static_cast<float>(picture(x, y)) / table(x, y));
  float light = 1;
  if (!ratios.empty()) {
    const auto middle = ratios.begin() + static_cast<std::ptrdiff_t>(ratios.size() / 2);
    std::nth_element(ratios.begin(), middle, ratios.end());
    light = *middle;
  }
  Image<float> heights(table.width(), table.height());
  for (int y = 0; y < table.height(); ++y)
    for (int x = 0; x < table.width(); ++x)
      heights(x, y) = std::abs(picture(x, y) - light * table(x, y)) > levels ? some_height : -some_height;
  return heights;
}

std::vector<Point2> convex_hull(std::vector<Point2> points) {
  std::sort(points.begin(), points.end(),
            [](Point2 a, Point2 b) { return a.x < b.x || (a.x == b.x && a.y < b.y); });
  points.erase(std::unique(points.begin(), points.end()), points.end());
  if (points.size() < 3) return points;
  std::vector<Point2> hull;
  const auto add = [&](Point2 p, size_t kept) {
    while (hull.size() >= kept + 2 &&
           cross(hull[hull.size() - 1] - hull[hull.size() - 2], p - hull[hull.size() - 2]) <= 0)
      hull.pop_back();
    hull.push_back(p);
  };
  for (const Point2 p : points) add(p, 0);
  const size_t lower = hull.size() - 1;
  for (size_t i = points.size() - 1; i-- > 0;) add(points[i], lower);
  hull.pop_back();
  return hull;
}

}  // namespace heron
