#pragma once
#include <vector>

#include "heron/base/point.hpp"
#include "heron/image/image.hpp"

namespace heron {

/// How a dot or a corner should look: what is compared with the picture.
struct PointModel {
  enum Kind { dot, corner } kind = dot;
  Point2 at;           ///< where it is thought to be
  float radius = 10;   ///< of the disc of pixels that are compared
  float edge = 2.4f;   ///< half the width that an edge blurs over; 2.65 times the sigma of the blur
  float middle = 128;  ///< brightness at `at`: of the paper of a dot, of the mean of both fields of a corner
  float slope_x = 0, slope_y = 0;  ///< of that brightness, a pixel; contrast goes along with it
  /// A dot: paper minus dot. A corner: half of field minus field, positive where both distances are.
  float contrast = 100;
  /// A dot: d' shape d = 1 on the rim, as xx, xy, yy. A corner: unit normals of both edges.
  float a = 1, b = 0, c = 1, d = 0;
};

/// Sums over the disc for one step of least squares: of the shift and the slopes of light together (their
/// derivatives change sign across the point; those of size, contrast, blur and direction do not, and so do
/// not matter for it), and of the blur alone.
struct PointSums {
  float xx = 0, xy = 0, yy = 0;          // shift with shift
  float xu = 0, xv = 0, yu = 0, yv = 0;  // shift with slopes
  float uu = 0, uv = 0, vv = 0;          // slopes
  float rx = 0, ry = 0, ru = 0, rv = 0;  // residual with each
  float blur_square = 0, blur_residual = 0;
};

PointSums point_sums(const ImageView<const uint8_t>& picture, const PointModel& model);
/// The same without vector instructions; sums differ by rounding alone.
PointSums point_sums_plain(const ImageView<const uint8_t>& picture, const PointModel& model);

/// One step: how far to move the point, and the change of the logarithm of the blur. A step from a place
/// known to some hundredths of a pixel reaches the bound that noise sets (Fisher's scoring).
struct PointStep {
  bool good = false;
  Point2 shift;
  double log_blur = 0;
};
PointStep point_step(const ImageView<const uint8_t>& picture, const PointModel& model);

/// The blur of a picture that points are first compared with, and every how manyth of `count` points serves
/// to learn the true one: about ten are enough.
inline constexpr double usual_blur_px = 0.9;
inline size_t stride_to_learn_blur(size_t count) { return 1 + count / 10; }
/// The true one from those points' changes of its logarithm (their median); the usual one without any.
double learned_blur_px(std::vector<double> log_blurs);

}  // namespace heron
