#include "heron/image/color_space.hpp"

#include <algorithm>
#include <cmath>

namespace heron {
namespace {

using Three = std::array<double, 3>;

double hue_of(const Three& p, double most, double least) {
  const auto [r, g, b] = p;
  const double chroma = most - least;
  if (chroma <= 0) return 0;
  double sector = 0;
  if (most == r)
    sector = (g - b) / chroma;
  else if (most == g)
    sector = 2 + (b - r) / chroma;
  else
    sector = 4 + (r - g) / chroma;
  return sector < 0 ? 60 * sector + 360 : 60 * sector;
}

/// IEC 61966-2-1 (sRGB).
double linear_of(double value) {
  const double v = value / 255;
  return v <= 0.04045 ? v / 12.92 : std::pow((v + 0.055) / 1.055, 2.4);
}

double lab_curve(double t) {
  constexpr double knee = 6.0 / 29;
  return t > knee * knee * knee ? std::cbrt(t) : t / (3 * knee * knee) + 4.0 / 29;
}

Three lab_of(const Three& p) {
  const double r = linear_of(p[0]), g = linear_of(p[1]), b = linear_of(p[2]);
  const double x = lab_curve((0.4124564 * r + 0.3575761 * g + 0.1804375 * b) / 0.9504701),
               y = lab_curve(0.2126729 * r + 0.7151522 * g + 0.0721750 * b),
               z = lab_curve((0.0193339 * r + 0.1191920 * g + 0.9503041 * b) / 1.08883);
  return {116 * y - 16, 500 * (x - y), 200 * (y - z)};
}

}  // namespace

const std::array<const char*, 3>& channel_words(ColorSpace space) {
  static const std::array<std::array<const char*, 3>, 6> words{{{"red", "green", "blue"},
                                                                {"hue", "saturation", "value"},
                                                                {"hue", "saturation", "lightness"},
                                                                {"y", "cb", "cr"},
                                                                {"l", "a", "b"},
                                                                {"brightness", "", ""}}};
  return words[static_cast<size_t>(space)];
}

Three in_space(const Three& p, ColorSpace space) {
  const double most = std::max({p[0], p[1], p[2]}), least = std::min({p[0], p[1], p[2]});
  switch (space) {
    case ColorSpace::rgb:
      return p;
    case ColorSpace::hsv:
      return {hue_of(p, most, least), most > 0 ? 100 * (most - least) / most : 0, most / 2.55};
    case ColorSpace::hsl: {
      const double room = 255 - std::abs(most + least - 255);
      return {hue_of(p, most, least), room > 0 ? 100 * (most - least) / room : 0, (most + least) / 5.1};
    }
    case ColorSpace::ycbcr:
      return {0.299 * p[0] + 0.587 * p[1] + 0.114 * p[2],
              128 - 0.168736 * p[0] - 0.331264 * p[1] + 0.5 * p[2],
              128 + 0.5 * p[0] - 0.418688 * p[1] - 0.081312 * p[2]};
    case ColorSpace::lab:
      return lab_of(p);
    case ColorSpace::grey:
      return {0.299 * p[0] + 0.587 * p[1] + 0.114 * p[2], 0, 0};
  }
  return p;
}

double outside_by(const ColorRange& range, const Three& color) {
  double farthest = -1;
  for (size_t i = 0; i < channel_count(range.space); ++i) {
    Range<double> r = range.channels[i];
    double value = color[i];
    if (i == 0 && has_hue(range.space)) {
      if (r.max < r.min) r.max += 360;
      const double middle = 0.5 * (r.min + r.max);
      value = middle + std::remainder(value - middle, 360.0);
    }
    const double half = std::max(0.5 * (r.max - r.min), 1e-6);
    farthest = std::max(farthest, std::abs(value - 0.5 * (r.min + r.max)) / half - 1);
  }
  return farthest;
}

}  // namespace heron
