#pragma once
#include <Eigen/Core>
#include <vector>

#include "heron/geometry/homography.hpp"
#include "heron/geometry/plane_mapping.hpp"
#include "heron/geometry/ring_shape.hpp"
#include "heron/image/image.hpp"
#include "heron/image/region.hpp"

namespace heron {

/// A ring mark seen in a picture. Lengths of the mark's own frame count in its outer radius.
struct RingSeen {
  int identity = 0;
  Point2 centre;           ///< picture coordinates; of the mark, not of the ellipse that it is seen as
  Angle angle;             ///< of the mark's X axis, picture sense
  double diameter_px = 0;  ///< of the circle of the same area
  double axis_ratio = 1;   ///< short over long axis; its arc cosine is about the tilt
  double score = 0;        ///< 0 to 100: correlation of the picture with the mark as it should look there
  double contrast = 0;     ///< grey levels from ring to paper
  double noise = 0;        ///< grey levels that picture and mark differ by, one standard deviation
  PoseSigma sigma;         ///< pixels; scale is that of the diameter, relative

  /// Mark to pixel, with perspective, and the covariance of its first eight elements row by row (the last is
  /// 1).
  Homography pixel_from_mark = Homography::Identity();
  Eigen::Matrix<double, 8, 8> covariance = Eigen::Matrix<double, 8, 8>::Zero();
};

struct RingSearch {
  double min_diameter_px = 18;  ///< from 12; across the short axis
  double min_score = 90;
  std::vector<Box> windows = {};  ///< where whole marks may lie; empty: anywhere
};

/// Every ring mark that lies in the picture as a whole, at any angle and tilted by up to 65 degrees. One
/// place of sixteen may be hidden. In the order of identity, then of score.
///
/// Dark blobs whose outline is an ellipse are read along the teeth; what reads as one of the identities is
/// fitted to the grey values of all its pixels at once - place, shape, light and sharpness of the picture
/// together - which reaches the bound that noise sets. Cost: three passes over the windows, and some
/// twenty evaluations of every pixel of a mark, twice ten of them for marks below 80 pixels. Throws
/// Error{invalid_argument} for a least diameter below 12, a score outside 0..100 or a window that is not
/// finite.
std::vector<RingSeen> find_ring_marks(const ImageView<const uint8_t>& picture, const RingSearch& search = {});

}  // namespace heron
