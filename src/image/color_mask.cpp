#include <fmt/format.h>

#include "heron/image/color_space.hpp"
#include "heron/image/parallel.hpp"

#undef HWY_TARGET_INCLUDE
#define HWY_TARGET_INCLUDE "image/color_mask.cpp"
#include <hwy/foreach_target.h>
#include <hwy/highway.h>

#ifndef HERON_COLOR_MASK_PLAIN
#define HERON_COLOR_MASK_PLAIN
#include <bit>
#include <cmath>

namespace heron {

/// A sum of the channels, their largest and their smallest, that must not be below 0.
struct ColorBound {
  float r = 0, g = 0, b = 0, most = 0, least = 0, offset = 0;
};

/// A range as bounds: all of `every`, and of each pair in `either` at least one. Every space but Lab is a set
/// of such bounds, a hue being two half planes of the chroma plane.
struct ColorTest {
  std::array<float, 3> gain{1, 1, 1};
  std::vector<ColorBound> every;
  std::vector<std::pair<ColorBound, ColorBound>> either;
  bool lab = false;
  std::array<float, 256> linear{};  ///< of an sRGB value
  std::array<float, 6> lab_limits{};
};

constexpr float lab_knee = 0.00885645168f, lab_slope = 7.78703704f, lab_start = 0.137931034f;

inline float cube_root_plain(float t) {
  const float third = static_cast<float>(std::bit_cast<int32_t>(t)) * (1.0f / 3.0f);
  float y = std::bit_cast<float>(static_cast<int32_t>(third) + 0x2a514067);
  for (int i = 0; i < 3; ++i) y = (y + y + t / (y * y)) * (1.0f / 3.0f);
  return y;
}

inline float lab_curve_plain(float t) {
  return t > lab_knee ? cube_root_plain(std::max(t, lab_knee)) : t * lab_slope + lab_start;
}

inline float bound_plain(const ColorBound& c, float r, float g, float b, float most, float least) {
  return ((c.r * r + c.g * g) + (c.b * b + c.most * most)) + (c.least * least + c.offset);
}

inline bool lab_holds_plain(const ColorTest& test, float r, float g, float b) {
  const auto linear = [&](float v) {
    return test.linear[static_cast<size_t>(std::min(255.0f, std::nearbyint(v)))];
  };
  const float lr = linear(r), lg = linear(g), lb = linear(b);
  const float x = lab_curve_plain((0.433949941f * lr + 0.376209849f * lg) + 0.189840376f * lb),
              y = lab_curve_plain((0.2126729f * lr + 0.7151522f * lg) + 0.072175f * lb),
              z = lab_curve_plain((0.0177566f * lr + 0.1094679f * lg) + 0.8727755f * lb);
  const float light = 116.0f * y - 16.0f, a = 500.0f * (x - y), blue = 200.0f * (y - z);
  const auto& m = test.lab_limits;
  return light >= m[0] && light <= m[1] && a >= m[2] && a <= m[3] && blue >= m[4] && blue <= m[5];
}

inline void color_row_plain(const ColorTest& test, const Rgb* row, uint8_t* out, int first, int width) {
  for (int x = first; x < width; ++x) {
    const float r = row[x].r * test.gain[0], g = row[x].g * test.gain[1], b = row[x].b * test.gain[2];
    bool in = true;
    if (test.lab) {
      in = lab_holds_plain(test, r, g, b);
    } else {
      const float most = std::max(std::max(r, g), b), least = std::min(std::min(r, g), b);
      for (const ColorBound& c : test.every) in = in && bound_plain(c, r, g, b, most, least) >= 0;
      for (const auto& [c, d] : test.either)
        in = in && (bound_plain(c, r, g, b, most, least) >= 0 || bound_plain(d, r, g, b, most, least) >= 0);
    }
    out[x] = in ? 255 : 0;
  }
}
}  // namespace heron
#endif

HWY_BEFORE_NAMESPACE();
namespace heron {
namespace HWY_NAMESPACE {
namespace hn = hwy::HWY_NAMESPACE;

using Floats = hn::ScalableTag<float>;
using V = hn::Vec<Floats>;

HWY_INLINE V bound(const ColorBound& c, V r, V g, V b, V most, V least) {
  const Floats f;
  const auto times = [&](float k, V v) { return hn::Mul(hn::Set(f, k), v); };
  return hn::Add(hn::Add(hn::Add(times(c.r, r), times(c.g, g)), hn::Add(times(c.b, b), times(c.most, most))),
                 hn::Add(times(c.least, least), hn::Set(f, c.offset)));
}

HWY_INLINE V lab_curve(V t) {
  const Floats f;
  const hn::RebindToSigned<Floats> whole;
  const auto knee = hn::Set(f, lab_knee), third = hn::Set(f, 1.0f / 3.0f);
  const V high = hn::Max(t, knee);
  V y =
      hn::BitCast(f, hn::Add(hn::ConvertTo(whole, hn::Mul(hn::ConvertTo(f, hn::BitCast(whole, high)), third)),
                             hn::Set(whole, 0x2a514067)));
  for (int i = 0; i < 3; ++i) y = hn::Mul(hn::Add(hn::Add(y, y), hn::Div(high, hn::Mul(y, y))), third);
  const V low = hn::Add(hn::Mul(t, hn::Set(f, lab_slope)), hn::Set(f, lab_start));
  return hn::IfThenElse(hn::Gt(t, knee), y, low);
}

HWY_INLINE hn::Mask<Floats> lab_holds(const ColorTest& test, V r, V g, V b) {
  const Floats f;
  const auto linear = [&](V v) {
    return hn::GatherIndex(f, test.linear.data(), hn::NearestInt(hn::Min(v, hn::Set(f, 255.0f))));
  };
  const V lr = linear(r), lg = linear(g), lb = linear(b);
  const auto mix = [&](float p, float q, float s) {
    return lab_curve(
        hn::Add(hn::Add(hn::Mul(hn::Set(f, p), lr), hn::Mul(hn::Set(f, q), lg)), hn::Mul(hn::Set(f, s), lb)));
  };
  const V x = mix(0.433949941f, 0.376209849f, 0.189840376f), y = mix(0.2126729f, 0.7151522f, 0.072175f),
          z = mix(0.0177566f, 0.1094679f, 0.8727755f);
  const V light = hn::Sub(hn::Mul(hn::Set(f, 116.0f), y), hn::Set(f, 16.0f)),
          a = hn::Mul(hn::Set(f, 500.0f), hn::Sub(x, y)), blue = hn::Mul(hn::Set(f, 200.0f), hn::Sub(y, z));
  const auto within = [&](V v, size_t i) {
    return hn::And(hn::Ge(v, hn::Set(f, test.lab_limits[i])), hn::Le(v, hn::Set(f, test.lab_limits[i + 1])));
  };
  return hn::And(hn::And(within(light, 0), within(a, 2)), within(blue, 4));
}

void color_row(const ColorTest& test, const Rgb* row, uint8_t* out, int width) {
  const Floats f;
  const hn::RebindToSigned<Floats> whole;
  const hn::Rebind<uint8_t, Floats> bytes;
  const int lanes = static_cast<int>(hn::Lanes(f));
  const auto zero = hn::Zero(f);
  int x = 0;
  for (; x + lanes <= width; x += lanes) {
    hn::Vec<decltype(bytes)> r8, g8, b8;
    hn::LoadInterleaved3(bytes, reinterpret_cast<const uint8_t*>(row + x), r8, g8, b8);
    const auto wide = [&](auto v, size_t i) {
      return hn::Mul(hn::ConvertTo(f, hn::PromoteTo(whole, v)), hn::Set(f, test.gain[i]));
    };
    const V r = wide(r8, 0), g = wide(g8, 1), b = wide(b8, 2);
    auto in = hn::Eq(zero, zero);
    if (test.lab) {
      in = lab_holds(test, r, g, b);
    } else {
      const V most = hn::Max(hn::Max(r, g), b), least = hn::Min(hn::Min(r, g), b);
      for (const ColorBound& c : test.every) in = hn::And(in, hn::Ge(bound(c, r, g, b, most, least), zero));
      for (const auto& [c, d] : test.either)
        in = hn::And(in,
                     hn::Ge(hn::Max(bound(c, r, g, b, most, least), bound(d, r, g, b, most, least)), zero));
    }
    const auto level = hn::IfThenElseZero(hn::RebindMask(whole, in), hn::Set(whole, 255));
    hn::StoreU(hn::DemoteTo(bytes, level), bytes, out + x);
  }
  color_row_plain(test, row, out, x, width);
}

}  // namespace HWY_NAMESPACE
}  // namespace heron
HWY_AFTER_NAMESPACE();

#if HWY_ONCE
namespace heron {
HWY_EXPORT(color_row);

namespace {

ColorBound scaled(ColorBound c, double factor) {
  const auto f = static_cast<float>(factor);
  return {c.r * f, c.g * f, c.b * f, c.most * f, c.least * f, c.offset * f};
}

/// `what` within a range: two bounds.
void within(ColorTest& test, const ColorBound& what, const Range<double>& range) {
  ColorBound above = what, below = scaled(what, -1);
  above.offset -= static_cast<float>(range.min), below.offset += static_cast<float>(range.max);
  test.every.push_back(above), test.every.push_back(below);
}

/// The half plane of hues up to half a turn after `degrees` (or before it): a cross product with that hue's
/// direction in the chroma plane.
ColorBound hue_side(double degrees, bool after) {
  // The pure color of that hue.
  const auto channel = [&](double shift) {
    const double k = std::fmod(shift + degrees / 60 + 12, 6.0);
    return 1 - std::max(0.0, std::min({k, 4 - k, 1.0}));
  };
  const double r = channel(5), g = channel(3), b = channel(1);
  const double x = r - 0.5 * (g + b), y = std::sqrt(0.75) * (g - b), sign = after ? 1 : -1;
  // x * sqrt(3/4) (g - b) - y * (r - (g + b) / 2)
  return {.r = static_cast<float>(-sign * y),
          .g = static_cast<float>(sign * (x * std::sqrt(0.75) + 0.5 * y)),
          .b = static_cast<float>(sign * (-x * std::sqrt(0.75) + 0.5 * y)),
          .offset = 1e-4f};  // what lies on the border belongs to it, and grey to every hue
}

void within_hue(ColorTest& test, Range<double> range) {
  double width = range.max - range.min;
  if (width < 0) width += 360;
  if (width >= 360) return;
  const ColorBound first = hue_side(range.min, true), last = hue_side(range.max, false);
  if (width > 180) {
    test.either.emplace_back(first, last);
  } else {
    test.every.push_back(first), test.every.push_back(last);
  }
}

void within_saturation(ColorTest& test, const Range<double>& range, bool of_lightness) {
  const auto low = static_cast<float>(range.min / 100), high = static_cast<float>(range.max / 100);
  const float slack = 1e-3f;
  if (!of_lightness) {  // 1 - least / most
    test.every.push_back({.most = 1 - low, .least = -1, .offset = slack});
    test.every.push_back({.most = high - 1, .least = 1, .offset = slack});
    return;
  }
  // (most - least) over the smaller of (most + least) and its complement.
  test.either.emplace_back(ColorBound{.most = 1 - low, .least = -1 - low, .offset = slack},
                           ColorBound{.most = 1 + low, .least = low - 1, .offset = slack - 510 * low});
  test.every.push_back({.most = high - 1, .least = high + 1, .offset = slack});
  test.every.push_back({.most = -high - 1, .least = 1 - high, .offset = slack + 510 * high});
}

ColorTest test_of(const ColorRange& range, const std::array<double, 3>& gains) {
  for (size_t i = 0; i < 3; ++i) {
    const Range<double>& r = range.channels[i];
    if (i == 0 && has_hue(range.space)) {
      if (!(r.min >= 0 && r.min <= 360 && r.max >= 0 && r.max <= 360))
        fail_argument(fmt::format("a hue range {}..{} must lie within 0..360 degrees; 350..10 runs through 0",
                                  r.min, r.max));
    } else {
      require_ordered(r, channel_words(range.space)[i]);
    }
  }
  ColorTest test;
  for (size_t i = 0; i < 3; ++i) {
    if (!(gains[i] > 0 && gains[i] < 1000))
      fail_argument(fmt::format("a color gain of {} must be above 0", gains[i]));
    test.gain[i] = static_cast<float>(gains[i]);
  }
  const auto& [first, second, third] = range.channels;
  switch (range.space) {
    case ColorSpace::rgb:
      within(test, {.r = 1}, first), within(test, {.g = 1}, second), within(test, {.b = 1}, third);
      break;
    case ColorSpace::ycbcr:
      within(test, {.r = 0.299f, .g = 0.587f, .b = 0.114f}, first);
      within(test, {.r = -0.168736f, .g = -0.331264f, .b = 0.5f, .offset = 128}, second);
      within(test, {.r = 0.5f, .g = -0.418688f, .b = -0.081312f, .offset = 128}, third);
      break;
    case ColorSpace::hsv:
      within_hue(test, first), within_saturation(test, second, false);
      within(test, {.most = 1 / 2.55f}, third);
      break;
    case ColorSpace::hsl:
      within_hue(test, first), within_saturation(test, second, true);
      within(test, {.most = 1 / 5.1f, .least = 1 / 5.1f}, third);
      break;
    case ColorSpace::lab:
      test.lab = true;
      for (size_t i = 0; i < 256; ++i) {
        const double v = static_cast<double>(i) / 255;
        test.linear[i] = static_cast<float>(v <= 0.04045 ? v / 12.92 : std::pow((v + 0.055) / 1.055, 2.4));
      }
      for (size_t i = 0; i < 3; ++i)
        test.lab_limits[2 * i] = static_cast<float>(range.channels[i].min),
                            test.lab_limits[2 * i + 1] = static_cast<float>(range.channels[i].max);
      break;
  }
  return test;
}

}  // namespace

Image<uint8_t> color_mask(const ImageView<const Rgb>& picture, const ColorRange& range,
                          const std::array<double, 3>& gains) {
  const ColorTest test = test_of(range, gains);
  Image<uint8_t> mask(picture.width(), picture.height());
  parallel_rows(picture.height(), 64, [&](int first, int end) {
    for (int y = first; y < end; ++y)
      HWY_DYNAMIC_DISPATCH(color_row)(test, picture.row(y), mask.row(y), picture.width());
  });
  return mask;
}

Image<uint8_t> color_mask_plain(const ImageView<const Rgb>& picture, const ColorRange& range,
                                const std::array<double, 3>& gains) {
  const ColorTest test = test_of(range, gains);
  Image<uint8_t> mask(picture.width(), picture.height());
  for (int y = 0; y < picture.height(); ++y)
    color_row_plain(test, picture.row(y), mask.row(y), 0, picture.width());
  return mask;
}

}  // namespace heron
#endif
