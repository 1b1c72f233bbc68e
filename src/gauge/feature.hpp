#pragma once
#include <Eigen/Core>
#include <optional>
#include <variant>

#include "heron/base/point.hpp"

namespace heron {

// What a gauge leaves for others, in the measuring plane: millimetres of the world, or pixels.

struct MeasuredPoint {
  Point2 at;
  Eigen::Matrix2d covariance = Eigen::Matrix2d::Zero();
};

struct MeasuredLine {
  Point2 at = {};         ///< its middle
  Point2 along = {};      ///< unit
  Point2 normal = {};     ///< unit, along the scan that met it
  double sigma = 0;       ///< of `at` along the normal
  double turn_sigma = 0;  ///< radians
  double shared = 0;  ///< covariance of both: of the middle's shift along the normal and the turn that moves
                      ///< points ahead of it the same way
  double half_length = 0;

  Point2 end(double side) const { return at + along * (side * half_length); }
  /// Variance of where the line lies along its normal, `ahead` of the middle.
  double variance_at(double ahead) const {
    return std::max(0.0, sigma * sigma + 2 * ahead * shared + ahead * ahead * turn_sigma * turn_sigma);
  }
};

struct MeasuredCircle {
  Point2 centre;
  double radius = 0;
  Eigen::Matrix3d covariance = Eigen::Matrix3d::Zero();  ///< of x, y, radius
};

using Feature = std::variant<std::monostate, MeasuredPoint, MeasuredLine, MeasuredCircle>;

/// The point of a feature: itself, a line's middle, a circle's centre; nothing of none.
std::optional<MeasuredPoint> point_of(const Feature& feature);

/// A number with its standard uncertainty.
struct Uncertain {
  double value = 0, sigma = 0;
};

/// Across two lines at their middle: from each to the point midway between their middles, along its own
/// normal. Positive where the second lies ahead of the first along the first's normal.
Uncertain between_lines(const MeasuredLine& a, const MeasuredLine& b);
/// Of a point ahead of a line, along its normal.
Uncertain ahead_of(const MeasuredLine& line, const MeasuredPoint& point);
/// From one line's direction to the other's, (-180, 180] degrees from x towards y of the plane.
Uncertain angle_between(const MeasuredLine& a, const MeasuredLine& b);

}  // namespace heron
