#pragma once
#include "heron/base/frame.hpp"
#include "heron/geometry/homography.hpp"

namespace heron {

/// Pixel to world on one plane (z = 0): a homography with the covariance of its eight parameters.
/// Right for points on that plane and a lens without distortion.
class PlaneMapping {
 public:
  using Covariance = Eigen::Matrix<double, 8, 8>;

  PlaneMapping();  ///< the identity
  /// `pixel_from_world` is scaled so that its last element is one, which the covariance refers to (row by
  /// row). Throws Error{invalid_argument} when it cannot be inverted or the world's origin lies on the
  /// horizon.
  explicit PlaneMapping(const Homography& pixel_from_world,
                        const Covariance& covariance = Covariance::Zero());

  Point2 pixel_from_world(WorldPoint world) const { return apply(pixel_from_world_, world.plain()); }
  WorldPoint world_from_pixel(Point2 pixel) const { return WorldPoint(apply(world_from_pixel_, pixel)); }

  /// The world pose of something seen at `pixel` that points along the picture angle `angle`; `seen` is the
  /// sigma of that detection in pixels; the result's holds it and the mapping's own. The angle follows the
  /// mapping's own derivative there, so perspective is accounted for. Throws Error{not_determined} when the
  /// pixel looks at the plane's horizon.
  WorldPose world_pose(Point2 pixel, Angle angle, const PoseSigma& seen = exact_pose) const;

  const Homography& matrix() const { return pixel_from_world_; }
  const Covariance& covariance() const { return covariance_; }
  /// Millimetres a pixel, mean of both directions, at `pixel`.
  double mm_per_pixel(Point2 pixel) const;

 private:
  Homography pixel_from_world_, world_from_pixel_;
  Covariance covariance_;
};

}  // namespace heron
