#pragma once
#include <Eigen/Core>

#include "locate/scan/scan_line.hpp"

namespace heron {

/// The part that several edges locate: shifted, and with three turned, so that each taught line runs through
/// where its edge was met. The covariance has the sigmas of both.
struct PartFit {
  Point2 shift;
  double turn = 0;
  Eigen::Matrix3d covariance = Eigen::Matrix3d::Zero();
  bool determined = false;
};

PartFit part_by_edges(const std::vector<Scan>& scans, const std::vector<LineEdge>& edges,
                      const std::vector<LineEdge>& taught, Point2 origin);

/// Where the lines of two bands meet. The turn is against the lines `taught`, by both of them.
struct CornerFit {
  Point2 at;
  double turn = 0;     ///< radians
  double opening = 0;  ///< between the sides, each from the corner towards its band, radians, 0 to pi
  Eigen::Matrix2d covariance = Eigen::Matrix2d::Zero();
  double turn_sigma = 0, opening_sigma = 0;
  bool determined = false;
};

CornerFit corner_of(const std::vector<Scan>& scans, const std::vector<LineEdge>& edges,
                    const std::vector<LineEdge>& taught);

}  // namespace heron
