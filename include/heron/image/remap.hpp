#pragma once
#include <cstdint>
#include <functional>
#include <vector>

#include "heron/base/point.hpp"
#include "heron/image/image.hpp"

namespace heron {

/// A table with the source position of every pixel of a new picture; made once, used for any
/// number of pictures of that size. Bilinear, positions right to 1/64 pixel.
class Remap {
 public:
  /// `source_of(x, y)` is where pixel (x, y) of the new picture looks in the old one; it is asked at every
  /// eighth pixel of every eighth row and interpolated between, which for lenses is right to some thousandths
  /// of a pixel. A NaN or a place outside the old picture leaves the pixel at `outside`. Throws
  /// Error{invalid_argument} for sizes below 2 or above 32767 a side.
  Remap(int source_width, int source_height, int width, int height,
        const std::function<Point2(double x, double y)>& source_of, uint8_t outside = 0);

  int width() const { return width_; }
  int height() const { return height_; }

  /// Cost: one pass over the new picture. Throws Error{invalid_argument} for a picture of another size.
  Image<uint8_t> apply(const ImageView<const uint8_t>& source) const;

 private:
  friend Image<uint8_t> remap_plain(const Remap& remap, const ImageView<const uint8_t>& source);
  void require_size(const ImageView<const uint8_t>& source) const;
  int source_width_, source_height_, width_, height_;
  uint8_t outside_;
  std::vector<uint32_t> place_;  ///< y << 16 | x of the upper left pixel, or `nowhere`
  std::vector<uint16_t> part_;   ///< (y fraction << 8) | x fraction, 1/64 each
  std::vector<char> tight_;      ///< rows that read the old picture's last bytes
};

}  // namespace heron
