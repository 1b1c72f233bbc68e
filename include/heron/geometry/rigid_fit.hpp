#pragma once
#include <optional>
#include <vector>

#include "heron/base/pose.hpp"

namespace heron {

/// A rigid motion of the plane fitted to point pairs.
struct RigidFit {
  Pose2 target_from_source;
  std::vector<double> residuals_mm;  ///< distance left at each pair
  double rms_mm = 0;
  double sigma_mm = 0;  ///< of x and of y at the pairs' centroid
  Angle sigma_angle;
};

/// target_from_source with the least sum of squared distances (Umeyama, PAMI 13, 1991, without scale).
/// Needs three pairs or more. Throws Error{not_determined} when the points coincide, when the pairs are
/// mirrored (one frame is left-handed), or when their lengths differ by more than 2% (another unit), and
/// names what it found.
RigidFit fit_rigid(const std::vector<Point2>& source, const std::vector<Point2>& target);

/// The pair, from 0, that is to blame where the largest residual is above `tolerance_mm`: of four or more,
/// the one without which the others fit best, if they fit within it; else nothing.
std::optional<size_t> pair_off(const std::vector<Point2>& source, const std::vector<Point2>& target,
                               double tolerance_mm);

}  // namespace heron
