#pragma once
#include <Eigen/LU>
#include <numbers>
#include <vector>

#include "heron/base/point.hpp"
#include "rim_sums.hpp"

namespace heron {

/// Of the six unknowns of a rim: centre x, y, radius, a, b and the logarithm of the blur.
using RimVector = Eigen::Matrix<double, 6, 1>;
using RimMatrix = Eigen::Matrix<double, 6, 6>;

/// One sector of a rim: its light, and its share of the normal equations of the ellipse.
struct RimSector {
  RimMatrix normal = RimMatrix::Zero();
  RimVector right = RimVector::Zero();
  Eigen::Matrix<double, 6, 2> mixed = Eigen::Matrix<double, 6, 2>::Zero();
  Eigen::Matrix2d light = Eigen::Matrix2d::Zero();
  Eigen::Vector2d light_right = Eigen::Vector2d::Zero();
  double squares = 0, count = 0;
  double level = 0;                ///< grey levels that `light_right` counts from
  double inside = 0, outside = 0;  ///< grey levels
  double offset = 0;               ///< pixels that this sector alone would move the rim outwards
  double contrast() const { return outside - inside; }
  double level_on(int side) const { return side == 0 ? inside : outside; }

  /// Inside and outside by the sums for light as they stand.
  void solve_light();
  /// What the sector wants of the ellipse with the light that it has; its light being unknown is taken off.
  void weigh(const RimSums& sum);
};

/// A rim parted into equal sectors.
struct RimParting {
  explicit RimParting(std::vector<bool> seen_of_each);
  RimParting halved() const;
  size_t count() const { return seen.size(); }
  bool all_seen() const;
  bool beside_unseen(size_t sector) const;

  std::vector<bool> seen;
  std::vector<Point2> middles;  ///< directions of the sectors, from +x towards +y
};

}  // namespace heron
