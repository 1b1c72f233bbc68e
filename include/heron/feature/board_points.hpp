#pragma once
#include <vector>

#include "heron/base/point.hpp"
#include "heron/image/image.hpp"

namespace heron {

/// A round dot, its centre to sub-pixel.
struct DotSeen {
  Point2 centre;          ///< centroid of its darkness
  double radius_px = 0;   ///< of the circle of the same area
  double axis_ratio = 1;  ///< short over long axis, from the second moments of its darkness
  double long_axis = 0;   ///< direction of the long axis in radians, picture sense
};

/// Every dark ellipse of a picture (bright ones when `bright`): threshold against the mean of a `window`-wide
/// square around each pixel, connected components, shape check, then the centroid of the darkness relative to
/// a plane fitted to the brightness around the dot, which unlike a threshold is not moved by uneven light.
std::vector<DotSeen> find_dots(const ImageView<const uint8_t>& picture, int window, bool bright = false);

/// Every point where two dark and two bright quarters meet: maxima of Ixy^2 - Ixx Iyy of the smoothed picture
/// with four alternating quarters around. `coarse` looks for them in the halved picture, at a quarter of the
/// cost; squares must then be 12 pixels wide instead of 6. Their places are refined in the whole picture all
/// the same.
std::vector<Point2> find_saddles(const ImageView<const uint8_t>& picture, bool coarse = false);

/// Moves a saddle to the point that all gradients in a window of `radius` pixels point past: the
/// least-squares crossing of the edges' lines (Foerstner, Guelch, A fast operator for detection and precise
/// location of distinct points, corners and centres of circular features, 1987). Returns `start` when it does
/// not settle within `radius / 2`.
Point2 refine_saddle(const ImageView<const uint8_t>& picture, Point2 start, double radius);

/// An inner corner of a checkerboard with the steps to its neighbours, pixels.
struct CornerSeen {
  Point2 at, column_step, row_step;
};

/// Moves corners known to some hundredths of a pixel to where two blurred edges along the steps explain the
/// grey values best, within 0.45 of the shorter step; those without steps, or that would move by more than
/// 0.3 pixels, stay. Cost: one pass over each disc by a vector kernel.
void refine_corners(const ImageView<const uint8_t>& picture, std::vector<CornerSeen>& corners);

}  // namespace heron
