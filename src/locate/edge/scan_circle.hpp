#pragma once
#include <Eigen/Core>

#include "edge_scan.hpp"

namespace heron {

/// Where one sector meets the circle.
struct RayEdge {
  Point2 at;         ///< picture coordinates
  double sigma = 0;  ///< along its ray, pixels
  bool on_circle = false;
};

/// A circle through what the sectors of a fan meet.
struct CircleFit {
  Point2 centre;
  double radius = 0;
  Eigen::Matrix3d covariance = Eigen::Matrix3d::Zero();  ///< of x, y and radius
  double seen = 0;                                       ///< share of the sectors that meet it
  double scatter = 0;                                    ///< rms distance of those from it, pixels
  double contrast = 0;                                   ///< outside less inside, grey levels, their median
  std::vector<bool> sectors;
  std::vector<RayEdge> met = {};
  bool determined = false;
};

/// The robust circle: each sector, some lanes wide, offers the edges that are meant; the circle through three
/// that most sectors agree with (Fischler, Bolles 1981) is settled by a blurred step in each sector, near
/// where it passes, and Tukey's weights.
CircleFit circle_by_scans(const PreparedPicture& prepared, const Scan& fan, const EdgeSettings& settings);

}  // namespace heron
