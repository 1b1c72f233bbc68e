#include <fmt/format.h>

#include "heron/image/color_space.hpp"
#include "image/parallel.hpp"
#include "image/plain_kernels.hpp"

#undef HWY_TARGET_INCLUDE
#define HWY_TARGET_INCLUDE "image/color_mask.cpp"
#include <hwy/foreach_target.h>
#include <hwy/highway.h>

#ifndef HERON_COLOR_MASK_PLAIN
#define HERON_COLOR_MASK_PLAIN
#include <bit>
#include <cmath>

namespace heron {

/// A sum of the channels that must not be below 0.
struct ChannelBound {
  float r = 0, g = 0, b = 0, offset = 0;
};
/// A sum of a pixel's largest and smallest channel that must not be below 0.
struct ExtentBound {
  float most = 0, least = 0, offset = 0;
};
template <class Bound>
struct Bounds {
  std::vector<Bound> every;
  std::vector<std::pair<Bound, Bound>> either;  ///< of each pair at least one
};

/// A range as bounds, all of which must hold. Every space but Lab is a set of such bounds, a hue being two
/// half planes of the chroma plane.
struct ColorTest {
  std::array<float, 3> gain{1, 1, 1};
  Bounds<ChannelBound> channels;
  Bounds<ExtentBound> extents;
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

inline float bound_plain(const ChannelBound& c, float r, float g, float b) {
  return (c.r * r + c.g * g) + (c.b * b + c.offset);
}
inline float bound_plain(const ExtentBound& c, float most, float least) {
  return (c.most * most + c.least * least) + c.offset;
}
template <class Bound, class... Values>
bool holds_plain(const Bounds<Bound>& bounds, Values... values) {
  bool in = true;
  for (const Bound& c : bounds.every) in = in && bound_plain(c, values...) >= 0;
  for (const auto& [c, d] : bounds.either)
    in = in && (bound_plain(c, values...) >= 0 || bound_plain(d, values...) >= 0);
  return in;
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
    const bool in =
        test.lab ? lab_holds_plain(test, r, g, b)
                 : holds_plain(test.channels, r, g, b) &&
                       holds_plain(test.extents, std::max(std::max(r, g), b), std::min(std::min(r, g), b));
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

HWY_INLINE V bound(const ChannelBound& c, V r, V g, V b) {
  const Floats f;
  const auto times = [&](float k, V v) { return hn::Mul(hn::Set(f, k), v); };
  return hn::Add(hn::Add(times(c.r, r), times(c.g, g)), hn::Add(times(c.b, b), hn::Set(f, c.offset)));
}
HWY_INLINE V bound(const ExtentBound& c, V most, V least) {
  const Floats f;
  const auto times = [&](float k, V v) { return hn::Mul(hn::Set(f, k), v); };
  return hn::Add(hn::Add(times(c.most, most), times(c.least, least)), hn::Set(f, c.offset));
}

template <class Bound, class... Values>
HWY_INLINE hn::Mask<Floats> holds(const Bounds<Bound>& bounds, Values... values) {
  const Floats f;
  const V zero = hn::Zero(f);
  auto in = hn::Eq(zero, zero);
  for (const Bound& c : bounds.every) in = hn::And(in, hn::Ge(bound(c, values...), zero));
  for (const auto& [c, d] : bounds.either)
    in = hn::And(in, hn::Ge(hn::Max(bound(c, values...), bound(d, values...)), zero));
  return in;
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

HWY_INLINE hn::Mask<Floats> color_holds(const ColorTest& test, V r, V g, V b) {
  if (test.lab) return lab_holds(test, r, g, b);
  const auto in = holds(test.channels, r, g, b);
  // Most of a picture is of another hue.
  if (hn::AllFalse(Floats(), in)) return in;
  return hn::And(in, holds(test.extents, hn::Max(hn::Max(r, g), b), hn::Min(hn::Min(r, g), b)));
}

void color_row(const ColorTest& test, const Rgb* row, uint8_t* out, int width) {
  const Floats f;
  const hn::RebindToSigned<Floats> whole;
  const hn::Rebind<uint8_t, Floats> bytes;
  const int lanes = static_cast<int>(hn::Lanes(f));
  const V gain_r = hn::Set(f, test.gain[0]), gain_g = hn::Set(f, test.gain[1]),
          gain_b = hn::Set(f, test.gain[2]);
  int x = 0;
  for (; x + lanes <= width; x += lanes) {
    hn::Vec<decltype(bytes)> r8, g8, b8;
    hn::LoadInterleaved3(bytes, reinterpret_cast<const uint8_t*>(row + x), r8, g8, b8);
    const auto wide = [&](auto v, V gain) {
      return hn::Mul(hn::ConvertTo(f, hn::PromoteTo(whole, v)), gain);
    };
    const auto in = color_holds(test, wide(r8, gain_r), wide(g8, gain_g), wide(b8, gain_b));
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

ChannelBound scaled(ChannelBound c, float f) { return {c.r * f, c.g * f, c.b * f, c.offset * f}; }
ExtentBound scaled(ExtentBound c, float f) { return {c.most * f, c.least * f, c.offset * f}; }

/// `what` within a range: two bounds.
template <class Bound>
void within(Bounds<Bound>& bounds, const Bound& what, const Range<double>& range) {
  Bound above = what, below = scaled(what, -1);
  above.offset -= static_cast<float>(range.min), below.offset += static_cast<float>(range.max);
  bounds.every.push_back(above), bounds.every.push_back(below);
}

/// The half plane of hues up to half a turn after `degrees` (or before it): a cross product with that hue's
/// direction in the chroma plane.
ChannelBound hue_side(double degrees, bool after) {
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
  const ChannelBound first = hue_side(range.min, true), last = hue_side(range.max, false);
  if (width > 180) {
    test.channels.either.emplace_back(first, last);
  } else {
    test.channels.every.push_back(first), test.channels.every.push_back(last);
  }
}

void within_saturation(ColorTest& test, const Range<double>& range, bool of_lightness) {
  const auto low = static_cast<float>(range.min / 100), high = static_cast<float>(range.max / 100);
  const float slack = 1e-3f;
  if (!of_lightness) {  // 1 - least / most
    test.extents.every.push_back({.most = 1 - low, .least = -1, .offset = slack});
    test.extents.every.push_back({.most = high - 1, .least = 1, .offset = slack});
    return;
  }
  // (most - least) over the smaller of (most + least) and its complement.
  test.extents.either.emplace_back(
      ExtentBound{.most = 1 - low, .least = -1 - low, .offset = slack},
      ExtentBound{.most = 1 + low, .least = low - 1, .offset = slack - 510 * low});
  test.extents.every.push_back({.most = high - 1, .least = high + 1, .offset = slack});
  test.extents.every.push_back({.most = -high - 1, .least = 1 - high, .offset = slack + 510 * high});
}

ColorTest test_of(const ColorRange& range, const std::array<double, 3>& gains) {
  for (size_t i = 0; i < channel_count(range.space); ++i) {
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
      within(test.channels, {.r = 1}, first), within(test.channels, {.g = 1}, second),
          within(test.channels, {.b = 1}, third);
      break;
    case ColorSpace::grey:
      // The three factors add up to 1 but for rounding: white must not fall out at 255.
      within(test.channels, {.r = 0.299f, .g = 0.587f, .b = 0.114f}, {first.min - 0.01, first.max + 0.01});
      break;
    case ColorSpace::ycbcr:
      within(test.channels, {.r = 0.299f, .g = 0.587f, .b = 0.114f}, first);
      within(test.channels, {.r = -0.168736f, .g = -0.331264f, .b = 0.5f, .offset = 128}, second);
      within(test.channels, {.r = 0.5f, .g = -0.418688f, .b = -0.081312f, .offset = 128}, third);
      break;
    case ColorSpace::hsv:
      within_hue(test, first), within_saturation(test, second, false);
      within(test.extents, {.most = 1 / 2.55f}, third);
      break;
    case ColorSpace::hsl:
      within_hue(test, first), within_saturation(test, second, true);
      within(test.extents, {.most = 1 / 5.1f, .least = 1 / 5.1f}, third);
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
