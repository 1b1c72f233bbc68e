#include "locate/grey_samples.hpp"

#undef HWY_TARGET_INCLUDE
#define HWY_TARGET_INCLUDE "locate/grey_samples.cpp"
#include <hwy/foreach_target.h>
#include <hwy/highway.h>

#ifndef HERON_GREY_SAMPLES_PLAIN
#define HERON_GREY_SAMPLES_PLAIN
#include <cmath>
namespace heron {

/// From picture coordinates to the taught picture's, and the picture rows and columns that it may touch.
struct ToTaught {
  double xx, xy, x0, yx, yy, y0;  // taught x = xx * x + xy * y + x0
  int left, right, top, bottom;   // last ones included

  ToTaught(const Similarity2& pose, const GreyModel& m, int width, int height) {
    const double c = cos(pose.angle) / pose.scale, s = sin(pose.angle) / pose.scale;
    xx = c, xy = s, x0 = m.origin.x - c * pose.x - s * pose.y;
    yx = -s, yy = c, y0 = m.origin.y + s * pose.x - c * pose.y;
    double least_x = 1e9, most_x = -1e9, least_y = 1e9, most_y = -1e9;
    for (const double u : {0.0, m.nearest.width() - 1.0})
      for (const double v : {0.0, m.nearest.height() - 1.0}) {
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

/// The columns of a row whose taught place lies inside the taught picture: only there an edge can be.
static void narrow(const ToTaught& t, const GreyModel& m, int y, int& first, int& last) {
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
  keep(t.xx, t.xy * y + t.x0, m.nearest.width() - 1.0);
  keep(t.yx, t.yy * y + t.y0, m.nearest.height() - 1.0);
  first = static_cast<int>(std::ceil(from)), last = static_cast<int>(std::floor(to));
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

/// Appends the pixels of one row that lie beside a seen edge.
size_t collect_row(const Image<uint8_t>& picture, const GreyModel& m, const float* seen, const ToTaught& t,
                   int y, size_t count, GreySamples& out) {
  const hn::ScalableTag<float> f;
  const hn::RebindToSigned<decltype(f)> whole;
  const hn::Rebind<uint8_t, decltype(f)> bytes;
  const int lanes = static_cast<int>(hn::Lanes(f));
  int first = 0, last = 0;
  narrow(t, m, y, first, last);
  const uint8_t* row = picture.row(y);
  const auto step = hn::Iota(f, 0.0f);
  const auto half = hn::Set(f, 0.5f);
  const auto stride = hn::Set(whole, static_cast<int>(m.nearest.stride()));
  for (int x = first; x <= last; x += lanes) {
    const double start_x = t.xx * x + t.xy * y + t.x0, start_y = t.yx * x + t.yy * y + t.y0;
    const auto tx =
        hn::MulAdd(step, hn::Set(f, static_cast<float>(t.xx)), hn::Set(f, static_cast<float>(start_x)));
    const auto ty =
        hn::MulAdd(step, hn::Set(f, static_cast<float>(t.yx)), hn::Set(f, static_cast<float>(start_y)));
    const auto inside = hn::Lt(step, hn::Set(f, static_cast<float>(last - x + 1)));
    const auto column = hn::ConvertTo(whole, hn::Add(tx, half)),
               line = hn::ConvertTo(whole, hn::Add(ty, half));
    const auto at = hn::IfThenElseZero(hn::RebindMask(whole, inside), hn::Add(hn::Mul(line, stride), column));
    const auto edge =
        hn::IfThenElseZero(hn::RebindMask(whole, inside), hn::GatherIndex(whole, m.nearest.row(0), at));
    if (hn::AllTrue(whole, hn::Eq(edge, hn::Zero(whole)))) continue;
    const auto weight = hn::GatherIndex(f, seen, edge);
    const auto taken = hn::Gt(weight, hn::Zero(f));
    const auto grey = hn::ConvertTo(f, hn::PromoteTo(whole, hn::LoadU(bytes, row + x)));
    hn::CompressStore(tx, taken, f, out.x.data() + count);
    hn::CompressStore(ty, taken, f, out.y.data() + count);
    count += hn::CompressStore(grey, taken, f, out.grey.data() + count);
  }
  return count;
}

void evaluate(const GreyModel& m, GreySamples& s) {
  const hn::ScalableTag<float> f;
  const hn::RebindToSigned<decltype(f)> whole;
  const size_t lanes = hn::Lanes(f);
  const auto stride = hn::Set(whole, static_cast<int>(m.coefficients.stride()));
  const auto set = [&](float v) HWY_ATTR { return hn::Set(f, v); };
  const auto one = set(1), half = set(0.5f), sixth = set(1.0f / 6), two_thirds = set(2.0f / 3);
  const auto origin_x = set(static_cast<float>(m.origin.x)), origin_y = set(static_cast<float>(m.origin.y));
  for (size_t i = 0; i < s.count; i += lanes) {
    const auto x = hn::LoadU(f, s.x.data() + i), y = hn::LoadU(f, s.y.data() + i);
    const auto fx = hn::Floor(x), fy = hn::Floor(y);
    const auto tx = hn::Sub(x, fx), ty = hn::Sub(y, fy), ux = hn::Sub(one, tx), uy = hn::Sub(one, ty);
    const auto outer = [&](auto t) HWY_ATTR { return hn::Mul(sixth, hn::Mul(t, hn::Mul(t, t))); };
    const auto inner = [&](auto t) HWY_ATTR {
      return hn::NegMulAdd(hn::Mul(half, hn::Mul(t, t)), hn::Sub(set(2), t), two_thirds);
    };
    const auto inner_slope = [&](auto t) HWY_ATTR { return hn::Mul(t, hn::MulAdd(set(1.5f), t, set(-2))); };
    const auto wx0 = outer(ux), wx1 = inner(tx), wx2 = inner(ux), wx3 = outer(tx);
    const auto dx0 = hn::Neg(hn::Mul(half, hn::Mul(ux, ux))), dx1 = inner_slope(tx),
               dx2 = hn::Neg(inner_slope(ux)), dx3 = hn::Mul(half, hn::Mul(tx, tx));
    const auto first = hn::Add(hn::Mul(hn::Sub(hn::ConvertTo(whole, fy), hn::Set(whole, 1)), stride),
                               hn::Sub(hn::ConvertTo(whole, fx), hn::Set(whole, 1)));
    auto value = hn::Zero(f), dx = hn::Zero(f), dy = hn::Zero(f);
    const auto row = [&](int k, auto w, auto d) HWY_ATTR {
      const float* base = m.coefficients.row(0) + k * m.coefficients.stride();
      const auto c0 = hn::GatherIndex(f, base, first), c1 = hn::GatherIndex(f, base + 1, first),
                 c2 = hn::GatherIndex(f, base + 2, first), c3 = hn::GatherIndex(f, base + 3, first);
      const auto along = hn::MulAdd(c0, wx0, hn::MulAdd(c1, wx1, hn::MulAdd(c2, wx2, hn::Mul(c3, wx3))));
      const auto slope = hn::MulAdd(c0, dx0, hn::MulAdd(c1, dx1, hn::MulAdd(c2, dx2, hn::Mul(c3, dx3))));
      value = hn::MulAdd(w, along, value), dx = hn::MulAdd(w, slope, dx), dy = hn::MulAdd(d, along, dy);
    };
    row(0, outer(uy), hn::Neg(hn::Mul(half, hn::Mul(uy, uy))));
    row(1, inner(ty), inner_slope(ty));
    row(2, inner(uy), hn::Neg(inner_slope(uy)));
    row(3, outer(ty), hn::Mul(half, hn::Mul(ty, ty)));
    const auto in = hn::FirstN(f, s.count - i);
    hn::StoreU(hn::IfThenElseZero(in, value), f, s.value.data() + i);
    hn::StoreU(hn::IfThenElseZero(in, dx), f, s.dx.data() + i);
    hn::StoreU(hn::IfThenElseZero(in, dy), f, s.dy.data() + i);
    hn::StoreU(hn::IfThenElseZero(in, hn::Sub(x, origin_x)), f, s.x.data() + i);
    hn::StoreU(hn::IfThenElseZero(in, hn::Sub(y, origin_y)), f, s.y.data() + i);
  }
}

void take_kernel(const Image<uint8_t>& picture, const GreyModel& m, const float* seen,
                 const Similarity2& pose, GreySamples& s) {
  const ToTaught t(pose, m, picture.width(), picture.height());
  s.count = 0;
  for (int y = t.top; y <= t.bottom; ++y) {
    s.make_room(s.count + static_cast<size_t>(t.right - t.left + 1));
    s.count = collect_row(picture, m, seen, t, y, s.count, s);
  }
  // Behind the last one, places that can be read.
  for (size_t i = 0; i < HWY_MAX_BYTES / sizeof(float); ++i)
    s.x[s.count + i] = s.y[s.count + i] = 1, s.grey[s.count + i] = 0;
  evaluate(m, s);
}

double product_kernel(const float* a, const float* b, size_t count) {
  const hn::ScalableTag<float> f;
  const size_t lanes = hn::Lanes(f), block = 64 * lanes;
  double sum = 0;
  for (size_t start = 0; start < count; start += block) {
    const size_t end = std::min(count, start + block);
    auto even = hn::Zero(f), odd = hn::Zero(f);
    size_t i = start;
    for (; i + lanes < end; i += 2 * lanes) {
      even = hn::MulAdd(hn::LoadU(f, a + i), hn::LoadU(f, b + i), even);
      odd = hn::MulAdd(hn::LoadU(f, a + i + lanes), hn::LoadU(f, b + i + lanes), odd);
    }
    for (; i < end; i += lanes) even = hn::MulAdd(hn::LoadU(f, a + i), hn::LoadU(f, b + i), even);
    sum += static_cast<double>(hn::GetLane(hn::SumOfLanes(f, hn::Add(even, odd))));
  }
  return sum;
}

void fill_kernel(const GreySamples& s, const GreyLight& light, float per, GreyColumns& out) {
  const hn::ScalableTag<float> f;
  const auto set = [&](float v) HWY_ATTR { return hn::Set(f, v); };
  const auto gain = set(light.gain), along_x = set(light.along_x), along_y = set(light.along_y);
  for (size_t i = 0; i < s.count; i += hn::Lanes(f)) {
    const auto load = [&](const std::vector<float>& column)
                          HWY_ATTR { return hn::LoadU(f, column.data() + i); };
    const auto store = [&](int k, auto v)
                           HWY_ATTR { hn::StoreU(v, f, out.columns[static_cast<size_t>(k)].data() + i); };
    const auto x = load(s.x), y = load(s.y), value = load(s.value);
    const auto here = hn::MulAdd(along_x, x, hn::MulAdd(along_y, y, gain));
    const auto dx = hn::Mul(here, load(s.dx)), dy = hn::Mul(here, load(s.dy));
    store(0, hn::Neg(dx)), store(1, hn::Neg(dy));
    store(2, hn::Sub(hn::Mul(dx, y), hn::Mul(dy, x)));
    store(3, hn::Neg(hn::MulAdd(dx, x, hn::Mul(dy, y))));
    store(4, value);
    store(5, hn::Mul(value, hn::Mul(x, set(per)))), store(6, hn::Mul(value, hn::Mul(y, set(per))));
    store(7, hn::IfThenElseZero(hn::FirstN(f, s.count - i), set(1)));
    store(8, load(s.grey));
  }
}

void residual_kernel(const GreyColumns& columns, const float* x, size_t count, float* residuals) {
  const hn::ScalableTag<float> f;
  for (size_t i = 0; i < count; i += hn::Lanes(f)) {
    auto left = hn::LoadU(f, columns.columns[grey_unknowns].data() + i);
    for (size_t k = 0; k < grey_unknowns; ++k)
      left = hn::NegMulAdd(hn::Set(f, x[k]), hn::LoadU(f, columns.columns[k].data() + i), left);
    hn::StoreU(left, f, residuals + i);
  }
}

GreyWeights weight_kernel(const GreyColumns& columns, const float* residuals, float per, size_t count,
                          GreyColumns& weighted, float* roots) {
  const hn::ScalableTag<float> f;
  auto sum = hn::Zero(f), answers = hn::Zero(f);
  const auto one = hn::Set(f, 1);
  for (size_t i = 0; i < count; i += hn::Lanes(f)) {
    const auto u = hn::Mul(hn::LoadU(f, residuals + i), hn::Set(f, per)), square = hn::Mul(u, u);
    const auto inside = hn::And(hn::Lt(square, one), hn::FirstN(f, count - i));
    const auto root = hn::IfThenElseZero(inside, hn::Sub(one, square));
    sum = hn::MulAdd(root, root, sum);
    answers = hn::MulAdd(root, hn::NegMulAdd(hn::Set(f, 4), square, root), answers);
    hn::StoreU(root, f, roots + i);
    for (size_t k = 0; k <= grey_unknowns; ++k)
      hn::StoreU(hn::Mul(root, hn::LoadU(f, columns.columns[k].data() + i)), f,
                 weighted.columns[k].data() + i);
  }
  return {static_cast<double>(hn::GetLane(hn::SumOfLanes(f, sum))),
          static_cast<double>(hn::GetLane(hn::SumOfLanes(f, answers)))};
}

GreyMoments moment_kernel(const GreySamples& s, const float* roots) {
  const hn::ScalableTag<float> f;
  auto sum = hn::Zero(f), along_x = hn::Zero(f), along_y = hn::Zero(f), squares = hn::Zero(f);
  for (size_t i = 0; i < s.count; i += hn::Lanes(f)) {
    const auto root = hn::LoadU(f, roots + i), x = hn::LoadU(f, s.x.data() + i),
               y = hn::LoadU(f, s.y.data() + i);
    const auto weight = hn::Mul(root, root);
    sum = hn::Add(sum, weight);
    along_x = hn::MulAdd(weight, x, along_x), along_y = hn::MulAdd(weight, y, along_y);
    squares = hn::MulAdd(weight, hn::MulAdd(x, x, hn::Mul(y, y)), squares);
  }
  const auto total = [&](auto v) HWY_ATTR { return static_cast<double>(hn::GetLane(hn::SumOfLanes(f, v))); };
  return {total(sum), total(along_x), total(along_y), total(squares)};
}

}  // namespace HWY_NAMESPACE
}  // namespace heron
HWY_AFTER_NAMESPACE();

#if HWY_ONCE
namespace heron {
HWY_EXPORT(take_kernel);
HWY_EXPORT(product_kernel);
HWY_EXPORT(fill_kernel);
HWY_EXPORT(residual_kernel);
HWY_EXPORT(weight_kernel);
HWY_EXPORT(moment_kernel);

void GreySamples::make_room(size_t values) {
  const size_t needed = values + 2 * HWY_MAX_BYTES / sizeof(float);
  if (x.size() >= needed) return;
  for (std::vector<float>* column : {&x, &y, &grey, &value, &dx, &dy}) column->resize(needed + needed / 2);
}

void take_grey_samples(const Image<uint8_t>& picture, const GreyModel& model, const std::vector<float>& seen,
                       const Similarity2& pose, GreySamples& samples) {
  samples.make_room(0);
  HWY_DYNAMIC_DISPATCH(take_kernel)(picture, model, seen.data(), pose, samples);
}

void take_grey_samples_plain(const Image<uint8_t>& picture, const GreyModel& m,
                             const std::vector<float>& seen, const Similarity2& pose, GreySamples& s) {
  const ToTaught t(pose, m, picture.width(), picture.height());
  s.make_room(0), s.count = 0;
  for (int y = t.top; y <= t.bottom; ++y) {
    int first = 0, last = 0;
    narrow(t, m, y, first, last);
    for (int x = first; x <= last; ++x) {
      const double tx = t.xx * x + t.xy * y + t.x0, ty = t.yx * x + t.yy * y + t.y0;
      const int edge = m.nearest(static_cast<int>(tx + 0.5), static_cast<int>(ty + 0.5));
      if (!(seen[static_cast<size_t>(edge)] > 0)) continue;
      s.make_room(s.count + 1);
      const int left = static_cast<int>(tx), top = static_cast<int>(ty);
      const SplineWeights wx(static_cast<float>(tx - left)), wy(static_cast<float>(ty - top));
      float value = 0, dx = 0, dy = 0;
      for (int v = 0; v < 4; ++v)
        for (int u = 0; u < 4; ++u) {
          const float c = m.coefficients(left - 1 + u, top - 1 + v);
          value += c * wx.w[u] * wy.w[v], dx += c * wx.d[u] * wy.w[v], dy += c * wx.w[u] * wy.d[v];
        }
      s.x[s.count] = static_cast<float>(tx - m.origin.x), s.y[s.count] = static_cast<float>(ty - m.origin.y);
      s.grey[s.count] = picture(x, y);
      s.value[s.count] = value, s.dx[s.count] = dx, s.dy[s.count] = dy;
      ++s.count;
    }
  }
}

void GreyColumns::make_room(const GreySamples& samples) {
  for (std::vector<float>& column : columns)
    if (column.size() < samples.x.size()) column.resize(samples.x.size());
}

void fill_columns(const GreySamples& samples, const GreyLight& light, double size, GreyColumns& out) {
  out.make_room(samples);
  HWY_DYNAMIC_DISPATCH(fill_kernel)(samples, light, static_cast<float>(1 / size), out);
}

void find_residuals(const GreyColumns& columns, const std::array<float, grey_unknowns>& x, size_t count,
                    std::vector<float>& residuals) {
  residuals.resize(columns.columns[0].size());
  HWY_DYNAMIC_DISPATCH(residual_kernel)(columns, x.data(), count, residuals.data());
}

GreyWeights apply_weights(const GreyColumns& columns, const std::vector<float>& residuals, double end,
                          size_t count, GreyColumns& weighted, std::vector<float>& roots) {
  for (std::vector<float>& column : weighted.columns) column.resize(columns.columns[0].size());
  roots.resize(columns.columns[0].size());
  return HWY_DYNAMIC_DISPATCH(weight_kernel)(columns, residuals.data(), static_cast<float>(1 / end), count,
                                             weighted, roots.data());
}

GreyMoments moments_of(const GreySamples& samples, const std::vector<float>& roots) {
  return HWY_DYNAMIC_DISPATCH(moment_kernel)(samples, roots.data());
}

double column_product(const float* a, const float* b, size_t count) {
  return HWY_DYNAMIC_DISPATCH(product_kernel)(a, b, count);
}

}  // namespace heron
#endif
