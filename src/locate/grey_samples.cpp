#include "locate/grey_samples.hpp"

#undef HWY_TARGET_INCLUDE
#define HWY_TARGET_INCLUDE "locate/grey_samples.cpp"
#include <hwy/foreach_target.h>
#include <hwy/highway.h>

#ifndef HERON_GREY_SAMPLES_PLAIN
#define HERON_GREY_SAMPLES_PLAIN
#include <cmath>
namespace heron {

/// As many floats as the widest vector of any processor holds (2048 bits). `HWY_MAX_BYTES` is that of one
/// target, outside the kernels not of the one that runs.
static constexpr size_t vector_room = 64;

/// From picture coordinates to the taught picture's, and the picture rows and columns that it may touch.
struct ToTaught {
  double xx, xy, x0, yx, yy, y0;  // taught x = xx * x + xy * y + x0, from the taught picture's first pixel
  int left, right, top, bottom;   // last ones included

  ToTaught(const Similarity2& pose, const GreyModel& m, int width, int height) {
    const double c = cos(pose.angle) / pose.scale, s = sin(pose.angle) / pose.scale;
    xx = c, xy = s, x0 = m.origin.x - c * pose.x - s * pose.y;
    yx = -s, yy = c, y0 = m.origin.y + s * pose.x - c * pose.y;
    double least_x = 1e9, most_x = -1e9, least_y = 1e9, most_y = -1e9;
    for (const double u : {0.0, m.ways.width() - 1.0})
      for (const double v : {0.0, m.ways.height() - 1.0}) {
        const Point2 p = pose * (Point2{u, v} - m.origin);
        least_x = std::min(least_x, p.x), most_x = std::max(most_x, p.x);
        least_y = std::min(least_y, p.y), most_y = std::max(most_y, p.y);
      }
    left = static_cast<int>(std::clamp(std::floor(least_x), 0.0, width - 1.0));
    right = static_cast<int>(std::clamp(std::ceil(most_x), 0.0, width - 1.0));
    top = static_cast<int>(std::clamp(std::floor(least_y), 0.0, height - 1.0));
    bottom = static_cast<int>(std::clamp(std::ceil(most_y), 0.0, height - 1.0));
  }
};

/// Columns of a row, both included; none at first.
struct RowSpan {
  int first = 0, last = -1;
};

/// The columns of a row whose taught place lies inside the taught picture: only there an edge can be.
static RowSpan narrow(const ToTaught& t, const GreyModel& m, int y) {
  double from = t.left, to = t.right;
  const auto keep = [&](double slope, double start, double most) {
    if (std::abs(slope) < 1e-9) {
      if (start < 1 || start > most - 1) to = from - 1;
      return;
    }
    double a = (1 - start) / slope, b = (most - 1 - start) / slope;
    if (a > b) std::swap(a, b);
    from = std::max(from, a), to = std::min(to, b);
  };
  keep(t.xx, t.xy * y + t.x0, m.ways.width() - 1.0);
  keep(t.yx, t.yy * y + t.y0, m.ways.height() - 1.0);
  if (std::ceil(from) > std::floor(to)) return {};
  return {static_cast<int>(std::ceil(from)), static_cast<int>(std::floor(to))};
}

/// Weights of the four coefficients around a place `t` after the second, and of its derivative.
struct SplineWeights {
  float w[4], d[4];
  explicit SplineWeights(float t) {
    const float u = 1 - t;
    w[0] = u * u * u / 6, w[3] = t * t * t / 6;
    w[1] = 2.0f / 3 - t * t * (2 - t) / 2, w[2] = 2.0f / 3 - u * u * (2 - u) / 2;
    d[0] = -u * u / 2, d[3] = t * t / 2;
    d[1] = t * (1.5f * t - 2), d[2] = u * (2 - 1.5f * u);
  }
};

}  // namespace heron
#endif

HWY_BEFORE_NAMESPACE();
namespace heron {
namespace HWY_NAMESPACE {
namespace hn = hwy::HWY_NAMESPACE;

/// Appends the pixels beside a seen edge, in strips a vector wide from top to bottom: what a strip touches of
/// the taught picture stays near at hand, however the part lies.
void collect_kernel(const Image<uint8_t>& picture, const Image<uint8_t>& ways, const ToTaught& t,
                    const RowSpan* rows, double scale, GreySamples& out) {
  const hn::ScalableTag<float> f;
  const hn::RebindToSigned<decltype(f)> whole;
  const hn::Rebind<uint8_t, decltype(f)> bytes;
  const int lanes = static_cast<int>(hn::Lanes(f));
  const auto step = hn::Iota(f, 0.0f);
  const auto half = hn::Set(f, 0.5f);
  const auto along_x = hn::MulAdd(step, hn::Set(f, static_cast<float>(t.xx)), half),
             along_y = hn::MulAdd(step, hn::Set(f, static_cast<float>(t.yx)), half);
  const auto stride = hn::Set(whole, static_cast<int>(ways.stride()));
  const auto beside_edge = hn::Set(whole, GreyModel::beside_edge);
  const auto* way_at = reinterpret_cast<const int32_t*>(ways.row(0));
  const int free = static_cast<int>(std::ceil(4 * lanes / scale));  // eighths of a pixel, from the middle
  size_t count = 0;
  for (int x = t.left; x <= t.right; x += lanes) {
    out.make_room(count + static_cast<size_t>(lanes) * static_cast<size_t>(t.bottom - t.top + 1));
    const auto across = hn::Add(step, hn::Set(f, static_cast<float>(x - out.base.x)));
    for (int y = t.top; y <= t.bottom; ++y) {
      const auto [first, last] = rows[y - t.top];
      if (x > last || x + lanes <= first) continue;
      const double start_x = t.xx * x + t.xy * y + t.x0, start_y = t.yx * x + t.yy * y + t.y0;
      const int middle = std::clamp(lanes / 2, first - x, last - x);
      const uint8_t way = ways(static_cast<int>(start_x + middle * t.xx + 0.5),
                               static_cast<int>(start_y + middle * t.yx + 0.5));
      if (way >= free && way != GreyModel::beside_edge) continue;
      const auto inside = hn::And(hn::Ge(step, hn::Set(f, static_cast<float>(first - x))),
                                  hn::Le(step, hn::Set(f, static_cast<float>(last - x))));
      const auto column = hn::ConvertTo(whole, hn::Add(along_x, hn::Set(f, static_cast<float>(start_x)))),
                 line = hn::ConvertTo(whole, hn::Add(along_y, hn::Set(f, static_cast<float>(start_y))));
      const auto at =
          hn::IfThenElseZero(hn::RebindMask(whole, inside), hn::Add(hn::Mul(line, stride), column));
      const auto beside = hn::Eq(hn::And(hn::GatherOffset(whole, way_at, at), beside_edge), beside_edge);
      const auto taken = hn::And(inside, hn::RebindMask(f, beside));
      if (hn::AllFalse(f, taken)) continue;
      const auto grey = hn::ConvertTo(f, hn::PromoteTo(whole, hn::LoadU(bytes, picture.row(y) + x)));
      hn::CompressStore(across, taken, f, out.across.data() + count);
      hn::StoreU(hn::Set(f, static_cast<float>(y - out.base.y)), f, out.down.data() + count);
      count += hn::CompressStore(grey, taken, f, out.grey.data() + count);
    }
  }
  out.count = count;
  for (size_t i = 0; i < HWY_MAX_BYTES / sizeof(float); ++i)
    out.across[count + i] = out.down[count + i] = out.grey[count + i] = 0;
}

void evaluate_kernel(const GreyModel& m, const ToTaught& to, GreySamples& s) {
  const hn::ScalableTag<float> f;
  const hn::RebindToSigned<decltype(f)> whole;
  const size_t lanes = hn::Lanes(f);
  const auto stride = hn::Set(whole, static_cast<int>(m.coefficients.stride()));
  const auto set = [&](double v) HWY_ATTR { return hn::Set(f, static_cast<float>(v)); };
  const auto one = set(1), half = set(0.5), sixth = set(1.0 / 6), two_thirds = set(2.0 / 3);
  const auto origin_x = set(m.origin.x), origin_y = set(m.origin.y);
  const auto xx = set(to.xx), xy = set(to.xy), yx = set(to.yx), yy = set(to.yy);
  const auto x0 = set(to.xx * s.base.x + to.xy * s.base.y + to.x0),
             y0 = set(to.yx * s.base.x + to.yy * s.base.y + to.y0);
  using V = hn::Vec<decltype(f)>;
  const hn::CappedTag<float, 4> four;
  constexpr size_t most = HWY_MAX_BYTES / sizeof(float);
  const float* coefficients = m.coefficients.row(0);
  const std::ptrdiff_t step = m.coefficients.stride();
  int32_t first[most];
  float down_by[4][most], slope_by[4][most], sums[4 * most], slopes[4 * most];
  // Where four coefficients lie either way.
  const auto most_x = set(m.coefficients.width() - 2.001), most_y = set(m.coefficients.height() - 2.001);
  for (size_t i = 0; i < s.count; i += lanes) {
    const auto across = hn::LoadU(f, s.across.data() + i), down = hn::LoadU(f, s.down.data() + i);
    const auto x = hn::Min(hn::Max(hn::MulAdd(xx, across, hn::MulAdd(xy, down, x0)), one), most_x),
               y = hn::Min(hn::Max(hn::MulAdd(yx, across, hn::MulAdd(yy, down, y0)), one), most_y);
    const auto fx = hn::Floor(x), fy = hn::Floor(y);
    const auto tx = hn::Sub(x, fx), ty = hn::Sub(y, fy), ux = hn::Sub(one, tx), uy = hn::Sub(one, ty);
    const auto outer = [&](auto t) HWY_ATTR { return hn::Mul(sixth, hn::Mul(t, hn::Mul(t, t))); };
    const auto inner = [&](auto t) HWY_ATTR {
      return hn::NegMulAdd(hn::Mul(half, hn::Mul(t, t)), hn::Sub(set(2), t), two_thirds);
    };
    const auto inner_slope = [&](auto t) HWY_ATTR { return hn::Mul(t, hn::MulAdd(set(1.5), t, set(-2))); };
    const auto wx0 = outer(ux), wx1 = inner(tx), wx2 = inner(ux), wx3 = outer(tx);
    const auto dx0 = hn::Neg(hn::Mul(half, hn::Mul(ux, ux))), dx1 = inner_slope(tx),
               dx2 = hn::Neg(inner_slope(ux)), dx3 = hn::Mul(half, hn::Mul(tx, tx));
    // Down the four columns of coefficients, one sample after the other: faster than gathering all sixteen.
    hn::StoreU(hn::Add(hn::Mul(hn::Sub(hn::ConvertTo(whole, fy), hn::Set(whole, 1)), stride),
                       hn::Sub(hn::ConvertTo(whole, fx), hn::Set(whole, 1))),
               whole, first);
    hn::StoreU(outer(uy), f, down_by[0]), hn::StoreU(inner(ty), f, down_by[1]);
    hn::StoreU(inner(uy), f, down_by[2]), hn::StoreU(outer(ty), f, down_by[3]);
    hn::StoreU(hn::Neg(hn::Mul(half, hn::Mul(uy, uy))), f, slope_by[0]);
    hn::StoreU(inner_slope(ty), f, slope_by[1]), hn::StoreU(hn::Neg(inner_slope(uy)), f, slope_by[2]);
    hn::StoreU(hn::Mul(half, hn::Mul(ty, ty)), f, slope_by[3]);
    for (size_t k = 0; k < lanes; ++k)
      for (size_t u = 0; u < 4; u += hn::Lanes(four)) {
        const float* at = coefficients + first[k] + u;
        auto sum = hn::Zero(four), slope = hn::Zero(four);
#pragma GCC unroll 4
        for (size_t v = 0; v < 4; ++v, at += step) {
          const auto c = hn::LoadU(four, at);
          sum = hn::MulAdd(hn::Set(four, down_by[v][k]), c, sum);
          slope = hn::MulAdd(hn::Set(four, slope_by[v][k]), c, slope);
        }
        hn::StoreU(sum, four, sums + 4 * k + u), hn::StoreU(slope, four, slopes + 4 * k + u);
      }
    V c0, c1, c2, c3, d0, d1, d2, d3;
    hn::LoadInterleaved4(f, sums, c0, c1, c2, c3), hn::LoadInterleaved4(f, slopes, d0, d1, d2, d3);
    const auto across_by =
        [&](auto v0, auto v1, auto v2, auto v3, auto w0, auto w1, auto w2, auto w3)
            HWY_ATTR { return hn::MulAdd(v0, w0, hn::MulAdd(v1, w1, hn::MulAdd(v2, w2, hn::Mul(v3, w3)))); };
    const auto value = across_by(c0, c1, c2, c3, wx0, wx1, wx2, wx3),
               dx = across_by(c0, c1, c2, c3, dx0, dx1, dx2, dx3),
               dy = across_by(d0, d1, d2, d3, wx0, wx1, wx2, wx3);
    const auto in = hn::FirstN(f, s.count - i);
    hn::StoreU(hn::IfThenElseZero(in, value), f, s.value.data() + i);
    hn::StoreU(hn::IfThenElseZero(in, dx), f, s.dx.data() + i);
    hn::StoreU(hn::IfThenElseZero(in, dy), f, s.dy.data() + i);
    hn::StoreU(hn::IfThenElseZero(in, hn::Sub(x, origin_x)), f, s.x.data() + i);
    hn::StoreU(hn::IfThenElseZero(in, hn::Sub(y, origin_y)), f, s.y.data() + i);
  }
}

}  // namespace HWY_NAMESPACE
}  // namespace heron
HWY_AFTER_NAMESPACE();

#if HWY_ONCE
namespace heron {
HWY_EXPORT(collect_kernel);
HWY_EXPORT(evaluate_kernel);

void GreySamples::make_room(size_t values) {
  const size_t needed = values + 2 * vector_room;
  if (x.size() >= needed) return;
  for (std::vector<float>* column : {&across, &down, &grey, &x, &y, &value, &dx, &dy})
    column->resize(needed + needed / 2);
}

static ToTaught begin(const Image<uint8_t>& picture, const GreyModel& m, const Similarity2& pose,
                      GreySamples& s) {
  s.make_room(0);
  s.count = 0, s.base = {std::round(pose.x), std::round(pose.y)};
  return {pose, m, picture.width(), picture.height()};
}

/// The model's ways, with the pixels of edges that are not seen left out.
static const Image<uint8_t>& seen_ways(const GreyModel& m, const std::vector<float>& seen,
                                       Image<uint8_t>& scratch) {
  if (std::all_of(seen.begin(), seen.end(), [](float weight) { return weight > 0; })) return m.ways;
  if (scratch.width() != m.ways.width() || scratch.height() != m.ways.height())
    scratch = Image<uint8_t>(m.ways.width(), m.ways.height());
  std::copy_n(m.ways.row(0), m.ways.stride() * m.ways.height(), scratch.row(0));
  for (size_t i = 0; i < seen.size(); ++i)
    if (!(seen[i] > 0))
      for (int32_t k = m.first_pixel[i]; k < m.first_pixel[i + 1]; ++k)
        scratch.row(0)[m.pixels[static_cast<size_t>(k)]] = 0;
  return scratch;
}

void collect_grey_samples(const Image<uint8_t>& picture, const GreyModel& m, const std::vector<float>& seen,
                          const Similarity2& pose, GreySamples& s) {
  const ToTaught to = begin(picture, m, pose, s);
  static thread_local std::vector<RowSpan> rows;
  rows.clear();
  for (int y = to.top; y <= to.bottom; ++y) rows.push_back(narrow(to, m, y));
  HWY_DYNAMIC_DISPATCH(collect_kernel)
  (picture, seen_ways(m, seen, s.ways), to, rows.data(), pose.scale, s);
}

void evaluate_grey_samples(const GreyModel& m, const Similarity2& pose, GreySamples& s) {
  HWY_DYNAMIC_DISPATCH(evaluate_kernel)(m, ToTaught(pose, m, 1, 1), s);
}

void collect_grey_samples_plain(const Image<uint8_t>& picture, const GreyModel& m,
                                const std::vector<float>& seen, const Similarity2& pose, GreySamples& s) {
  const ToTaught t = begin(picture, m, pose, s);
  const Image<uint8_t>& ways = seen_ways(m, seen, s.ways);
  for (int y = t.top; y <= t.bottom; ++y) {
    const auto [first, last] = narrow(t, m, y);
    for (int x = first; x <= last; ++x) {
      const double tx = t.xx * x + t.xy * y + t.x0, ty = t.yx * x + t.yy * y + t.y0;
      if (ways(static_cast<int>(tx + 0.5), static_cast<int>(ty + 0.5)) != GreyModel::beside_edge) continue;
      s.make_room(s.count + 1);
      s.across[s.count] = static_cast<float>(x - s.base.x),
      s.down[s.count] = static_cast<float>(y - s.base.y);
      s.grey[s.count++] = picture(x, y);
    }
  }
}

void evaluate_grey_samples_plain(const GreyModel& m, const Similarity2& pose, GreySamples& s) {
  const ToTaught t(pose, m, 1, 1);
  for (size_t i = 0; i < s.count; ++i) {
    const double px = s.base.x + static_cast<double>(s.across[i]),
                 py = s.base.y + static_cast<double>(s.down[i]);
    const double tx = std::clamp(t.xx * px + t.xy * py + t.x0, 1.0, m.coefficients.width() - 2.001),
                 ty = std::clamp(t.yx * px + t.yy * py + t.y0, 1.0, m.coefficients.height() - 2.001);
    const int left = static_cast<int>(tx), top = static_cast<int>(ty);
    const SplineWeights wx(static_cast<float>(tx - left)), wy(static_cast<float>(ty - top));
    float value = 0, dx = 0, dy = 0;
    for (int v = 0; v < 4; ++v)
      for (int u = 0; u < 4; ++u) {
        const float c = m.coefficients(left - 1 + u, top - 1 + v);
        value += c * wx.w[u] * wy.w[v], dx += c * wx.d[u] * wy.w[v], dy += c * wx.w[u] * wy.d[v];
      }
    s.x[i] = static_cast<float>(tx - m.origin.x), s.y[i] = static_cast<float>(ty - m.origin.y);
    s.value[i] = value, s.dx[i] = dx, s.dy[i] = dy;
  }
}

}  // namespace heron
#endif
