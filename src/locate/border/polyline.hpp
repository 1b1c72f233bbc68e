#pragma once
#include <optional>
#include <vector>

#include "heron/base/angle.hpp"
#include "heron/image/region.hpp"

namespace heron {

/// Straight sides from corner to corner.
struct Polyline {
  std::vector<Point2> corners;
  bool closed = true;

  size_t sides() const { return closed ? corners.size() : corners.size() - 1; }
  Point2 from(size_t side) const { return corners[side]; }
  Point2 to(size_t side) const { return corners[(side + 1) % corners.size()]; }
  Point2 middle(size_t side) const { return (from(side) + to(side)) * 0.5; }
  double length(size_t side) const { return distance(from(side), to(side)); }
  Point2 along(size_t side) const { return (to(side) - from(side)) / length(side); }
  /// Unit normal: inwards of a closed polyline, to the right (as seen) of an open one.
  Point2 inwards(size_t side) const;
  double total_length() const;
  Box bounds() const;
};

/// From x, y, x, y, ... Throws Error{invalid_argument} for less than two sides of 12 pixels, values that are
/// not finite, and sides that cross or touch each other.
Polyline polyline_of(const std::vector<double>& numbers, bool open);
std::vector<double> numbers_of(const Polyline& line);

/// A pose of the taught border: turned and scaled about its origin, then shifted.
struct BorderPose {
  Point2 shift;
  double turn = 0;  ///< radians
  double scale = 1;
  Point2 of(Point2 taught, Point2 origin) const {
    return origin + shift + rotated(taught - origin, radians(turn)) * scale;
  }
  Polyline of(const Polyline& taught, Point2 origin) const;
};

/// Where two lines meet, each given by a point and a direction; nothing when they run within five degrees of
/// each other.
std::optional<Point2> meeting(Point2 a, Point2 along_a, Point2 b, Point2 along_b);

}  // namespace heron
