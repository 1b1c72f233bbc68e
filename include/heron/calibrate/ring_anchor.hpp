#pragma once
#include <string>
#include <vector>

#include "heron/base/pose3.hpp"
#include "heron/calibrate/check.hpp"
#include "heron/feature/ring_mark.hpp"
#include "heron/geometry/mapping.hpp"

namespace heron {

/// A ring mark fixed to the table or carrier whose plane a mapping measures: where it lies there, flat, and
/// how large it is, as that mapping measured it.
struct RingAnchor {
  int identity = 0;
  WorldPoint place_mm;
  WorldAngle angle;  ///< of its X axis
  double diameter_mm = 0;
  double height_mm = 0;                        ///< of its face above the work plane
  double sigma_mm = 0, sigma_diameter_mm = 0;  ///< of each coordinate; of the diameter
  Angle sigma_angle;
};

/// Measures a mark with a mapping that holds. The mark must lie flat, `height_mm` above the work plane: when
/// it does not (its outline is not that of a flat mark there), Error{not_determined} says so.
RingAnchor anchor_ring(const Mapping& mapping, const RingSeen& seen, double height_mm = 0);

/// What the anchors say of where table and camera are now.
struct TransferredMapping {
  Mapping mapping;     ///< into the same world, which moved with the marks
  Pose3 old_from_now;  ///< where the world lies now, in the old world: identity when nothing moved
  Point2 shift_mm;     ///< of the world at the marks' middle, along the plane
  Angle turn;          ///< about the plane's normal
  double lift_mm = 0;  ///< of the marks' middle, along the normal; 0 along the plane
  Angle tilt;          ///< of the plane; 0 along the plane
  double sigma_shift_mm = 0, sigma_lift_mm = 0;
  Angle sigma_turn, sigma_tilt;
  double reduced_chi_square = 0;  ///< sum of squares left in sigmas, over its degrees of freedom; about 1
  static constexpr double max_reduced_chi_square = 9;  ///< three sigmas; above it the motion is another one
  bool fits() const { return reduced_chi_square < max_reduced_chi_square; }
  bool ambiguous = false;  ///< another tilt explains the marks as well; the nearer to the old one was taken
  std::vector<int> identities;  ///< of the marks used
};

/// How far a table or camera may have moved.
enum class Motion {
  along_plane,  ///< shifted and turned, the plane is still where it was: three unknowns, most exact
  free,         ///< any motion; needs a camera mapping. One mark alone fixes tilt poorly: use three or more
};

/// Carries a mapping along with its marks: least squares over everything that is seen of them, weighed by its
/// covariance. Throws Error{not_determined} when none of the anchors is seen, Error{invalid_argument} when a
/// free motion is asked of a plane.
TransferredMapping transfer_mapping(const Mapping& mapping, const std::vector<RingAnchor>& anchors,
                                    const std::vector<RingSeen>& seen, Motion motion);

/// Whether the marks are where and as large as they were, as check_mapping does with a board.
MappingCheck check_mapping(const Mapping& mapping, const std::vector<RingAnchor>& anchors,
                           const std::vector<RingSeen>& seen);

}  // namespace heron
