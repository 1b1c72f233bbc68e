#pragma once
#include <Eigen/Core>

#include "feature.hpp"
#include "heron/geometry/mapping.hpp"
#include "locate/scan/scan_line.hpp"

namespace heron {

/// Where lengths are measured: on the work plane at a part's height, in millimetres of the mapping's world,
/// or in the picture. Throws as `Mapping` does where a pixel has no counterpart.
class MeasuringPlane {
 public:
  MeasuringPlane() = default;  ///< the picture
  MeasuringPlane(const Mapping* mapping, const Axes* axes, double height_mm)
      : mapping_(mapping), axes_(axes), height_mm_(height_mm) {}

  bool in_millimetres() const { return mapping_ != nullptr; }
  const char* length_unit() const { return mapping_ ? "mm" : "px"; }
  const char* area_unit() const { return mapping_ ? "mm2" : "px2"; }
  Point2 at(Point2 pixel) const;
  Point2 pixel(Point2 at) const;
  /// Of the plane's coordinates by the picture's.
  Eigen::Matrix2d jacobian(Point2 pixel) const;
  double scale(Point2 pixel) const;  ///< lengths here a pixel, mean of both directions
  /// As the user counts: along the user's axes where they are set.
  Point2 as_counted(Point2 at) const;

  MeasuredPoint point(Point2 pixel, const Eigen::Matrix2d& covariance) const;
  MeasuredLine line(const Scan& scan, const LineEdge& edge) const;  ///< of a straight band

 private:
  const Mapping* mapping_ = nullptr;
  const Axes* axes_ = nullptr;
  double height_mm_ = 0;
};

}  // namespace heron
