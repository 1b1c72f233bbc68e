#pragma once
#include <array>
#include <cstdint>

#include "heron/base/range.hpp"
#include "heron/image/image.hpp"

namespace heron {

/// How a color is written as three numbers.
enum class ColorSpace {
  rgb,    ///< red, green, blue, 0 to 255
  hsv,    ///< hue in degrees, 0 to 360; saturation and value, 0 to 100
  hsl,    ///< hue in degrees, saturation and lightness, 0 to 100
  ycbcr,  ///< luma and two color differences, 0 to 255 (ITU-R BT.601, full range)
  lab,    ///< CIE 1976 lightness 0 to 100, a and b (sRGB primaries, D65)
  grey    ///< brightness alone, 0 to 255 (ITU-R BT.601 luma); the other two numbers are 0
};

inline constexpr std::array<const char*, 6> color_space_words{"rgb", "hsv", "hsl", "ycbcr", "lab", "grey"};
/// Names of a space's three numbers; empty for those that say nothing.
const std::array<const char*, 3>& channel_words(ColorSpace space);
/// How many of a space's numbers say something: three, one for grey.
constexpr size_t channel_count(ColorSpace space) { return space == ColorSpace::grey ? 1 : 3; }
/// True for the first number of HSV and HSL, which wraps round at 360.
constexpr bool has_hue(ColorSpace space) { return space == ColorSpace::hsv || space == ColorSpace::hsl; }

/// A color, channels 0 to 255, in a space. A grey pixel has hue 0.
std::array<double, 3> in_space(const std::array<double, 3>& rgb, ColorSpace space);
inline std::array<double, 3> in_space(Rgb p, ColorSpace space) {
  return in_space(
      std::array<double, 3>{static_cast<double>(p.r), static_cast<double>(p.g), static_cast<double>(p.b)},
      space);
}

/// A box in a color space; both ends belong to it. A hue range with min above max runs through 0.
struct ColorRange {
  ColorSpace space = ColorSpace::hsv;
  std::array<Range<double>, 3> channels{};
};

/// How far a color lies outside the range, in half widths of the channel where it lies farthest out; negative
/// inside: -1 in its middle, 0 on its border.
double outside_by(const ColorRange& range, const std::array<double, 3>& color);

/// 255 where a pixel, each channel times its gain, lies in the range. A grey pixel counts as of any hue.
/// Cost: one pass; Lab some three times the others. Throws Error{invalid_argument} for ranges that are not
/// finite or swapped (but hue), and gains that are not above 0.
Image<uint8_t> color_mask(const ImageView<const Rgb>& picture, const ColorRange& range,
                          const std::array<double, 3>& gains = {1, 1, 1});

}  // namespace heron
