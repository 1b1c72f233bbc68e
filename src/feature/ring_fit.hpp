#pragma once
#include <Eigen/Core>
#include <optional>

#include "heron/geometry/ring_shape.hpp"
#include "heron/image/image.hpp"

namespace heron {

/// Where a ring mark lies: pixel = centre + axes * m / (1 + tilt . m), m in outer radii.
struct RingPlace {
  Eigen::Vector2d centre = Eigen::Vector2d::Zero();
  Eigen::Matrix2d axes = Eigen::Matrix2d::Identity();
  Eigen::Vector2d tilt = Eigen::Vector2d::Zero();

  Eigen::Vector2d pixel(const Eigen::Vector2d& m) const { return centre + axes * m / (1 + tilt.dot(m)); }
};

/// A ring mark fitted to the grey values of a picture.
struct RingFit {
  RingPlace place;
  /// Of centre x, y, axes column by column, tilt; the last two rows are zero without perspective.
  Eigen::Matrix<double, 8, 8> covariance = Eigen::Matrix<double, 8, 8>::Zero();
  double blur_px = 1;      ///< sigma of the edges
  double contrast = 0;     ///< paper minus ring, grey levels
  double noise = 0;        ///< standard deviation of what is left
  double correlation = 0;  ///< of the picture with the fitted mark
};

/// Least squares on the grey values of all pixels of the mark from a start near by (a fifth of a place in
/// angle, some per cent in size): centre, axes, (with `perspective`) tilt, contrast, brightness with its
/// slopes, and blur; pixels that do not belong (glare, dirt) lose their weight. Nothing when it does not
/// settle, or leaves the picture.
std::optional<RingFit> fit_ring(const ImageView<const uint8_t>& picture, int identity, const RingFit& start,
                                bool perspective);

}  // namespace heron
