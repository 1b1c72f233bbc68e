#pragma once
#include "heron/base/point.hpp"
#include "heron/image/image.hpp"

namespace heron {

/// Pixels as wide as they are high, of the finer one of two pitches.
template <class T>
struct SquarePixels {
  Image<T> pixels;
  double pitch_mm = 1;
};

/// A map whose pixels measure `pitch_mm` along x and y on square ones, so that what turns keeps its shape:
/// the coarser direction is interpolated linearly. The middle of the first pixel stays where it is; a place
/// at (x, y) lies at (x * pitch_mm.x, y * pitch_mm.y) over the new pitch. Beside a hole (NaN) the nearer of
/// two heights counts by itself, so holes neither grow nor shrink. Cost: a pass. Throws
/// Error{invalid_argument} for a pitch that is not above 0, or that makes a side longer than 32767.
SquarePixels<float> on_square_pixels(const ImageView<const float>& map, Point2 pitch_mm);
/// The grey picture that belongs to a map, in the same way.
SquarePixels<uint8_t> on_square_pixels(const ImageView<const uint8_t>& picture, Point2 pitch_mm);

}  // namespace heron
