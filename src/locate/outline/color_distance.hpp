#pragma once
#include <array>
#include <vector>

#include "heron/image/image.hpp"
#include "heron/image/region.hpp"

namespace heron {

/// Red, green and blue of a setting; zeros where it is empty.
inline std::array<double, 3> three_of(const std::vector<double>& numbers) {
  return numbers.size() == 3 ? std::array<double, 3>{numbers[0], numbers[1], numbers[2]}
                             : std::array<double, 3>{};
}

/// Median red, green and blue just inside the region's border, where a region drawn around a part shows what
/// lies behind it.
std::array<double, 3> color_along_border(const ImageView<const Rgb>& picture, const Region& region);

/// How far each pixel's color lies from `backdrop` under any light: the part of it at right angles to the
/// backdrop's, in grey levels of the light that `backdrop` was seen in, above `away_ground`. Shadows and a
/// brighter or darker backdrop leave it there. With a direction `towards` (a unit vector at right angles to
/// the backdrop), along that alone: where backdrop and part mix, it then grows in proportion, and noise does
/// not lift it. Pixels of the backdrop must be more than half, since they determine the light.
Image<uint8_t> distance_from_color(const ImageView<const Rgb>& picture, const std::array<double, 3>& backdrop,
                                   const std::array<double, 3>& towards);
inline constexpr int away_ground = 32;

/// The direction in which the pixels of `part` differ from the backdrop; zeros where they do not agree on
/// one.
std::array<double, 3> direction_from_color(const ImageView<const Rgb>& picture,
                                           const std::array<double, 3>& backdrop, const Image<uint8_t>& part);

}  // namespace heron
