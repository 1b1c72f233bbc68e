#include "locate/pattern/grey/grey_samples.hpp"

#include "image/vector_padding.hpp"
#include "locate/common/spline.hpp"

#undef HWY_TARGET_INCLUDE
#define HWY_TARGET_INCLUDE "locate/pattern/grey/grey_samples.cpp"
#include <hwy/foreach_target.h>
#include <hwy/highway.h>

#ifndef HERON_GREY_SAMPLES_PLAIN
#define HERON_GREY_SAMPLES_PLAIN
#include <array>
#include <bit>
#include <cmath>
#include <cstring>
#include <utility>
namespace heron {

/// Which of a word's bits belong to the pixels that are collected, for each row of four.
using RowChoice = std::array<uint64_t, 4>;
static constexpr RowChoice some_runs{0xffff, uint64_t{0xffff} << 16, uint64_t{0xffff} << 32,
                                     uint64_t{0xffff} << 48};

/// From picture coordinates to the taught picture's.
struct ToTaught {
  double xx, xy, x0, yx, yy, y0;  // taught x = xx * x + xy * y + x0, from the taught picture's first pixel

  ToTaught(const Similarity2& pose, Point2 origin) {
    const double c = cos(pose.angle) / pose.scale, s = sin(pose.angle) / pose.scale;
    xx = c, xy = s, x0 = origin.x - c * pose.x - s * pose.y;
    yx = -s, yy = c, y0 = origin.y + s * pose.x - c * pose.y;
  }
};

}  // namespace heron
#endif

HWY_BEFORE_NAMESPACE();
namespace heron {
namespace HWY_NAMESPACE {
namespace hn = hwy::HWY_NAMESPACE;

void collect_kernel(const Image<uint8_t>& picture, const RowChoice& choice, GreySamples& out) {
  const hn::ScalableTag<float> f;
  const hn::RebindToSigned<decltype(f)> whole;
  const hn::Rebind<uint8_t, decltype(f)> bytes;
  const int lanes = static_cast<int>(hn::Lanes(f));
  const uint64_t all_lanes = lanes < 64 ? (uint64_t{1} << lanes) - 1 : ~uint64_t{0};
  const auto step = hn::Iota(f, 0.0f);
  const PickedPixels& picked = out.picked;
  const int first_row = std::max(0, picked.top()), end_row = std::min(picture.height(), picked.end_row());
  const int end_word = std::min((picture.width() + 63) / 64, picked.end_word());
  size_t count = out.count;
  for (int word = std::max(0, picked.first_word()); word < end_word; ++word) {
    const int left = 64 * word;
    const uint64_t in_picture =
        picture.width() - left < 64 ? (uint64_t{1} << (picture.width() - left)) - 1 : ~uint64_t{0};
    for (int y = first_row; y < end_row; ++y) {
      uint64_t bits = picked.at(word, y) & in_picture & choice[static_cast<size_t>(y & 3)];
      if (!bits) continue;
      out.make_room(count + 64);
      const auto down = hn::Set(f, static_cast<float>(y - out.base.y));
      while (bits) {
        const int skip = std::countr_zero(bits) / lanes * lanes, x = left + skip;
        uint8_t mask_bits[8];
        const uint64_t those = bits >> skip & all_lanes;
        std::memcpy(mask_bits, &those, 8);
        bits &= ~(all_lanes << skip);
        const auto taken = hn::LoadMaskBits(f, mask_bits);
        const auto across = hn::Add(step, hn::Set(f, static_cast<float>(x - out.base.x)));
        const auto grey = hn::ConvertTo(f, hn::PromoteTo(whole, hn::LoadU(bytes, picture.row(y) + x)));
        hn::StoreU(hn::Compress(across, taken), f, out.across.data() + count);
        hn::StoreU(down, f, out.down.data() + count);
        hn::StoreU(hn::Compress(grey, taken), f, out.grey.data() + count);
        count += static_cast<size_t>(std::popcount(those));
      }
    }
  }
  out.count = count;
  for (size_t i = 0; i < HWY_MAX_BYTES / sizeof(float); ++i)
    out.across[count + i] = out.down[count + i] = out.grey[count + i] = 0;
}

/// Where a kernel puts down what it evaluates; without slopes, values alone.
struct Evaluated {
  float *value, *dx = nullptr, *dy = nullptr, *x = nullptr, *y = nullptr;
};

template <bool slopes>
HWY_INLINE void evaluate(const Image<float>& spline, Point2 origin, const ToTaught& to, size_t begin,
                         const GreySamples& s, const Evaluated& out) {
  const hn::ScalableTag<float> f;
  const hn::RebindToSigned<decltype(f)> whole;
  const size_t lanes = hn::Lanes(f);
  const auto stride = hn::Set(whole, static_cast<int>(spline.stride()));
  const auto set = [&](double v) HWY_ATTR { return hn::Set(f, static_cast<float>(v)); };
  const auto one = set(1), half = set(0.5), sixth = set(1.0 / 6), two_thirds = set(2.0 / 3);
  const auto origin_x = set(origin.x), origin_y = set(origin.y);
  const auto xx = set(to.xx), xy = set(to.xy), yx = set(to.yx), yy = set(to.yy);
  const auto x0 = set(to.xx * s.base.x + to.xy * s.base.y + to.x0),
             y0 = set(to.yx * s.base.x + to.yy * s.base.y + to.y0);
  using V = hn::Vec<decltype(f)>;
  const hn::CappedTag<float, 4> four;
  constexpr size_t most = HWY_MAX_BYTES / sizeof(float);
  const float* coefficients = spline.row(0);
  const std::ptrdiff_t step = spline.stride();
  // Some vectors at a time, in three steps: what is put down one by one takes a while until it can be read as
  // a vector.
  constexpr size_t block = 4;
  HWY_ALIGN int32_t first[block][most];
  HWY_ALIGN float down_by[block][4][most], slope_by[block][4][most], sums[block][4 * most],
      slope_sums[block][4 * most];
  V at_x[block], at_y[block], between_x[block];
  // Where four coefficients lie either way.
  const auto max_x = set(spline.width() - 2.001), max_y = set(spline.height() - 2.001);
  const auto outer = [&](V t) HWY_ATTR { return hn::Mul(sixth, hn::Mul(t, hn::Mul(t, t))); };
  const auto inner = [&](V t) HWY_ATTR {
    return hn::NegMulAdd(hn::Mul(half, hn::Mul(t, t)), hn::Sub(set(2), t), two_thirds);
  };
  const auto inner_slope = [&](V t) HWY_ATTR { return hn::Mul(t, hn::MulAdd(set(1.5), t, set(-2))); };
  for (size_t start = begin; start < s.count; start += block * lanes) {
    const size_t vectors = std::min(block, (s.count - start + lanes - 1) / lanes);
    for (size_t j = 0; j < vectors; ++j) {
      const size_t i = start + j * lanes;
      const auto across = hn::LoadU(f, s.across.data() + i), down = hn::LoadU(f, s.down.data() + i);
      const auto x = hn::Min(hn::Max(hn::MulAdd(xx, across, hn::MulAdd(xy, down, x0)), one), max_x),
                 y = hn::Min(hn::Max(hn::MulAdd(yx, across, hn::MulAdd(yy, down, y0)), one), max_y);
      const auto fx = hn::Floor(x), fy = hn::Floor(y);
      const auto ty = hn::Sub(y, fy), uy = hn::Sub(one, ty);
      at_x[j] = x, at_y[j] = y, between_x[j] = hn::Sub(x, fx);
      hn::Store(hn::Add(hn::Mul(hn::Sub(hn::ConvertTo(whole, fy), hn::Set(whole, 1)), stride),
                        hn::Sub(hn::ConvertTo(whole, fx), hn::Set(whole, 1))),
                whole, first[j]);
      hn::Store(outer(uy), f, down_by[j][0]), hn::Store(inner(ty), f, down_by[j][1]);
      hn::Store(inner(uy), f, down_by[j][2]), hn::Store(outer(ty), f, down_by[j][3]);
      if constexpr (slopes) {
        hn::Store(hn::Neg(hn::Mul(half, hn::Mul(uy, uy))), f, slope_by[j][0]);
        hn::Store(inner_slope(ty), f, slope_by[j][1]), hn::Store(hn::Neg(inner_slope(uy)), f, slope_by[j][2]);
        hn::Store(hn::Mul(half, hn::Mul(ty, ty)), f, slope_by[j][3]);
      }
    }
    // Down the four columns of coefficients, one sample after the other: faster than gathering all sixteen.
    for (size_t j = 0; j < vectors; ++j)
#pragma GCC unroll 4
      for (size_t k = 0; k < lanes; ++k)
        for (size_t u = 0; u < 4; u += hn::Lanes(four)) {
          const float* at = coefficients + first[j][k] + u;
          auto sum = hn::Zero(four), slope = hn::Zero(four);
#pragma GCC unroll 4
          for (size_t v = 0; v < 4; ++v, at += step) {
            const auto c = hn::LoadU(four, at);
            sum = hn::MulAdd(hn::Set(four, down_by[j][v][k]), c, sum);
            if constexpr (slopes) slope = hn::MulAdd(hn::Set(four, slope_by[j][v][k]), c, slope);
          }
          hn::StoreU(sum, four, sums[j] + 4 * k + u);
          if constexpr (slopes) hn::StoreU(slope, four, slope_sums[j] + 4 * k + u);
        }
    for (size_t j = 0; j < vectors; ++j) {
      const size_t i = start + j * lanes;
      const auto tx = between_x[j], ux = hn::Sub(one, tx);
      const auto wx0 = outer(ux), wx1 = inner(tx), wx2 = inner(ux), wx3 = outer(tx);
      V c0, c1, c2, c3;
      hn::LoadInterleaved4(f, sums[j], c0, c1, c2, c3);
      const auto across_by = [&](auto v0, auto v1, auto v2, auto v3, auto w0, auto w1, auto w2,
                                 auto w3) HWY_ATTR {
        return hn::MulAdd(v0, w0, hn::MulAdd(v1, w1, hn::MulAdd(v2, w2, hn::Mul(v3, w3))));
      };
      const auto in = hn::FirstN(f, s.count - i);
      const auto put = [&](V v, float* column)
                           HWY_ATTR { hn::StoreU(hn::IfThenElseZero(in, v), f, column + i); };
      put(across_by(c0, c1, c2, c3, wx0, wx1, wx2, wx3), out.value);
      if constexpr (slopes) {
        V d0, d1, d2, d3;
        hn::LoadInterleaved4(f, slope_sums[j], d0, d1, d2, d3);
        put(across_by(c0, c1, c2, c3, hn::Neg(hn::Mul(half, hn::Mul(ux, ux))), inner_slope(tx),
                      hn::Neg(inner_slope(ux)), hn::Mul(half, hn::Mul(tx, tx))),
            out.dx);
        put(across_by(d0, d1, d2, d3, wx0, wx1, wx2, wx3), out.dy);
        put(hn::Sub(at_x[j], origin_x), out.x), put(hn::Sub(at_y[j], origin_y), out.y);
      }
    }
  }
}

void evaluate_kernel(const Image<float>& spline, Point2 origin, const ToTaught& to, size_t begin,
                     GreySamples& s) {
  evaluate<true>(spline, origin, to, begin, s,
                 {s.value.data(), s.dx.data(), s.dy.data(), s.x.data(), s.y.data()});
}

void values_kernel(const Image<float>& spline, Point2 origin, const ToTaught& to, const GreySamples& s,
                   float* values) {
  evaluate<false>(spline, origin, to, 0, s, {values});
}

}  // namespace HWY_NAMESPACE
}  // namespace heron
HWY_AFTER_NAMESPACE();

#if HWY_ONCE
namespace heron {
HWY_EXPORT(collect_kernel);
HWY_EXPORT(evaluate_kernel);
HWY_EXPORT(values_kernel);

void GreySamples::make_room(size_t values) {
  const size_t needed = values + 2 * vector_padding;
  if (x.size() >= needed) return;
  for (std::vector<float>* column : {&across, &down, &grey, &x, &y, &value, &dx, &dy})
    column->resize(needed + needed / 2);
}

/// Picks the pixels beside edges at a pose.
static void begin(const GreyModel& m, const std::vector<float>& seen, const Similarity2& pose, double wider,
                  GreySamples& s) {
  s.make_room(0);
  s.count = 0, s.are_some = false, s.base = {std::round(pose.x), std::round(pose.y)};
  double left = 1e9, right = -1e9, top = 1e9, bottom = -1e9;
  for (const double u : {0.0, m.coefficients.width() - 1.0})
    for (const double v : {0.0, m.coefficients.height() - 1.0}) {
      const Point2 p = pose * (Point2{u, v} - m.origin);
      left = std::min(left, p.x), right = std::max(right, p.x);
      top = std::min(top, p.y), bottom = std::max(bottom, p.y);
    }
  const double around = (m.around_edges.radius + wider) * pose.scale + 2;
  s.picked.clear(static_cast<int>(std::floor(left - around)), static_cast<int>(std::floor(top - around)),
                 static_cast<int>(std::ceil(right + around)), static_cast<int>(std::ceil(bottom + around)));
  s.picked.pick(m.around_edges, seen, pose, wider), s.picked.pick(m.single_pixels, seen, pose);
}

void collect_grey_samples(const Image<uint8_t>& picture, const GreyModel& m, const std::vector<float>& seen,
                          const Similarity2& pose, GreySamples& s, const GreyCollecting& options) {
  begin(m, seen, pose, options.wider, s);
  HWY_DYNAMIC_DISPATCH(collect_kernel)(picture, some_runs, s);
  s.are_some = true;
  if (s.count < options.enough) collect_other_grey_samples(picture, s);
}

void collect_other_grey_samples(const Image<uint8_t>& picture, GreySamples& s) {
  if (!std::exchange(s.are_some, false)) return;
  RowChoice others = some_runs;
  for (uint64_t& bits : others) bits = ~bits;
  HWY_DYNAMIC_DISPATCH(collect_kernel)(picture, others, s);
}

void evaluate_grey_samples(const Image<float>& spline, Point2 origin, const Similarity2& pose, GreySamples& s,
                           size_t first) {
  HWY_DYNAMIC_DISPATCH(evaluate_kernel)(spline, origin, ToTaught(pose, origin), first, s);
}

void values_under(const Image<float>& spline, Point2 origin, const Similarity2& pose, const GreySamples& s,
                  std::vector<float>& values) {
  values.resize(s.x.size());
  HWY_DYNAMIC_DISPATCH(values_kernel)(spline, origin, ToTaught(pose, origin), s, values.data());
}

void collect_grey_samples_plain(const Image<uint8_t>& picture, const GreyModel& m,
                                const std::vector<float>& seen, const Similarity2& pose, GreySamples& s) {
  begin(m, seen, pose, 0, s);
  for (int word = s.picked.first_word(); word < s.picked.end_word(); ++word)
    for (int y = s.picked.top(); y < s.picked.end_row(); ++y)
      for (int x = 64 * word; x < 64 * word + 64; ++x) {
        if (!(s.picked.at(word, y) >> (x & 63) & 1) || !picture.view().holds(x, y)) continue;
        s.make_room(s.count + 1);
        s.across[s.count] = static_cast<float>(x - s.base.x),
        s.down[s.count] = static_cast<float>(y - s.base.y);
        s.grey[s.count++] = picture(x, y);
      }
}

void evaluate_grey_samples_plain(const Image<float>& spline, Point2 origin, const Similarity2& pose,
                                 GreySamples& s) {
  const ToTaught t(pose, origin);
  for (size_t i = 0; i < s.count; ++i) {
    const double px = s.base.x + static_cast<double>(s.across[i]),
                 py = s.base.y + static_cast<double>(s.down[i]);
    const double tx = std::clamp(t.xx * px + t.xy * py + t.x0, 1.0, spline.width() - 2.001),
                 ty = std::clamp(t.yx * px + t.yy * py + t.y0, 1.0, spline.height() - 2.001);
    const int left = static_cast<int>(tx), top = static_cast<int>(ty);
    const SplineWeights wx(static_cast<float>(tx - left)), wy(static_cast<float>(ty - top));
    float value = 0, dx = 0, dy = 0;
    for (int v = 0; v < 4; ++v)
      for (int u = 0; u < 4; ++u) {
        const float c = spline(left - 1 + u, top - 1 + v);
        value += c * wx.w[u] * wy.w[v], dx += c * wx.d[u] * wy.w[v], dy += c * wx.w[u] * wy.d[v];
      }
    s.x[i] = static_cast<float>(tx - origin.x), s.y[i] = static_cast<float>(ty - origin.y);
    s.value[i] = value, s.dx[i] = dx, s.dy[i] = dy;
  }
}

}  // namespace heron
#endif
