#pragma once
#include <vector>

#include "heron/calibrate/board.hpp"
#include "heron/geometry/plane_mapping.hpp"

namespace heron {

/// A known point with what the fitted mapping left of it.
struct MappedPoint {
  Point2 pixel;
  WorldPoint world_mm;
  Point2 residual_px = {};  ///< seen minus mapped
  int view = 0;             ///< which picture it was seen in
};

/// A plane mapping with its residuals.
struct PlaneCalibration {
  PlaneMapping mapping;
  std::vector<MappedPoint> points;
  double rms_px = 0;         ///< root of the mean squared residual, x and y together
  double sigma_px = 0;       ///< standard deviation of one coordinate of one point, from the residuals
  double largest_mm = 0;     ///< largest residual on the plane
  double distortion_px = 0;  ///< how far residuals grow with the cube of the distance from the picture's
                             ///< centre, at the corner: what a lens would leave
};

/// Homography from board points of one or several pictures of the board lying still: normalised direct linear
/// transform, then least squares on the reprojection error, with the centres of slanted dots corrected.
/// `dot_radius_px` is the median radius of dots, 0 for corners. Throws Error{not_determined} with fewer than
/// 9 points, or when they lie on one line.
PlaneCalibration calibrate_plane(const std::vector<BoardPoint>& points, const BoardShape& shape,
                                 double dot_radius_px, int width, int height);

}  // namespace heron
