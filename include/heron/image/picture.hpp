#pragma once
#include <chrono>
#include <optional>
#include <string>
#include <variant>

#include "heron/base/point.hpp"
#include "heron/image/image.hpp"

namespace heron {

/// What a camera or a file delivers: pixels of one of four kinds, where it came from and when.
/// Float pixels are a height map in millimetres with NaN where nothing was measured.
struct Picture {
  std::variant<Image<uint8_t>, Image<Rgb>, Image<uint16_t>, Image<float>> pixels;
  std::string name;  ///< file or camera it came from; may be empty
  /// The middle of the exposure, as accurately as the source knows it; the epoch when unknown.
  std::chrono::system_clock::time_point taken;
  std::optional<double> exposure_ms = {};  ///< if the camera reports it
  std::optional<double> gain = {};         ///< in the camera's unit
  std::optional<Point2> pitch_mm = {};     ///< millimetres a pixel along x and y, if its file has them

  int width() const;
  int height() const;
};

/// What turns changes its shape on pixels that are not as wide as high. Throws Error{bad_file} for a height
/// map whose `pitch_mm` tells of such, by more than half a per cent. What pictures of light say of their
/// resolution is as a rule for printing, and is passed over.
void require_square_pixels(const Picture& picture);

/// The picture as 8 bit grey levels: color weighed as ITU-R BT.601 luma, 16 bit divided by 257.
/// Throws Error{invalid_argument} for a height map, which has no grey levels.
Image<uint8_t> grey_levels(const Picture& picture);
Image<uint8_t> grey_levels(const ImageView<const Rgb>& picture);

}  // namespace heron
