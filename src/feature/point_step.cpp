#include "point_step.hpp"

#include <Eigen/LU>
#include <algorithm>
#include <cmath>

#include "heron/base/median.hpp"

#undef HWY_TARGET_INCLUDE
#define HWY_TARGET_INCLUDE "feature/point_step.cpp"
#include <hwy/foreach_target.h>
#include <hwy/highway.h>

#ifndef HERON_POINT_STEP_PLAIN
#define HERON_POINT_STEP_PLAIN
namespace heron {
// An edge's profile: the integral of the biweight (1 - t^2)^2, from -1 to 1 over its width. Close to that of
// a Gaussian of the same variance, and a polynomial.
static constexpr float profile_scale = 15.0f / 8;

static void add_point_row_plain(const uint8_t* row, int first, int last, const PointModel& m, float y,
                                PointSums* sums) {
  const auto ax = static_cast<float>(m.at.x);
  const float dy = y - static_cast<float>(m.at.y), inverse = 1.0f / m.edge;
  const float part = m.contrast / std::max(1.0f, m.middle);  // contrast goes with the light
  const auto profile = [&](float distance, float* slope, float* by_blur) {
    const float t = std::min(1.0f, std::max(-1.0f, distance * inverse)), tt = t * t, left = 1.0f - tt;
    *slope = profile_scale * left * left * inverse;
    *by_blur = -(*slope) * distance;
    return profile_scale * t * (1.0f - tt * (2.0f / 3 - 0.2f * tt));
  };
  for (int i = first; i <= last; ++i) {
    const float dx = static_cast<float>(i) - ax;
    const float light = m.middle + m.slope_x * dx + m.slope_y * dy;
    float relative, jx, jy, js;
    if (m.kind == PointModel::dot) {
      const float sx = m.a * dx + m.b * dy, sy = m.b * dx + m.c * dy;
      const float rims = std::sqrt(std::max(1e-6f, sx * dx + sy * dy));
      const float length = std::max(1e-6f, std::sqrt(sx * sx + sy * sy));
      float slope, by_blur;
      const float e = profile((rims - 1.0f) * rims / length, &slope, &by_blur), half = 0.5f * m.contrast;
      relative = 1.0f - 0.5f * part * (1.0f - e);
      jx = -half * slope * sx / length, jy = -half * slope * sy / length, js = half * by_blur;
    } else {
      const float d1 = m.a * dx + m.b * dy, d2 = m.c * dx + m.d * dy;
      float s1, s2, b1, b2;
      const float e1 = profile(d1, &s1, &b1), e2 = profile(d2, &s2, &b2);
      relative = 1.0f + part * (e1 * e2);
      const float g1 = m.contrast * (s1 * e2), g2 = m.contrast * (e1 * s2);
      jx = -(g1 * m.a + g2 * m.c), jy = -(g1 * m.b + g2 * m.d);
      js = m.contrast * (b1 * e2 + e1 * b2);
    }
    const float r = static_cast<float>(row[i]) - light * relative, u = dx * relative, v = dy * relative;
    sums->xx += jx * jx, sums->xy += jx * jy, sums->yy += jy * jy;
    sums->xu += jx * u, sums->xv += jx * v, sums->yu += jy * u, sums->yv += jy * v;
    sums->uu += u * u, sums->uv += u * v, sums->vv += v * v;
    sums->rx += r * jx, sums->ry += r * jy, sums->ru += r * u, sums->rv += r * v;
    sums->blur_square += js * js, sums->blur_residual += js * r;
  }
}

/// Calls with each row of the disc that lies in the picture.
template <class Visit>
static void each_row(const ImageView<const uint8_t>& picture, const PointModel& m, const Visit& visit) {
  const int top = std::max(0, static_cast<int>(std::ceil(m.at.y - m.radius))),
            bottom = std::min(picture.height() - 1, static_cast<int>(std::floor(m.at.y + m.radius)));
  for (int y = top; y <= bottom; ++y) {
    const double dy = y - m.at.y, half = std::sqrt(std::max(0.0, m.radius * m.radius - dy * dy));
    visit(y, std::max(0, static_cast<int>(std::ceil(m.at.x - half))),
          std::min(picture.width() - 1, static_cast<int>(std::floor(m.at.x + half))));
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

struct VectorSums {
  V xx, xy, yy, xu, xv, yu, yv, uu, uv, vv, rx, ry, ru, rv, ss, sr;
};

PointSums sum_point(const ImageView<const uint8_t>& picture, const PointModel& m) {
  const Floats f;
  const hn::RebindToSigned<Floats> whole;
  const hn::Rebind<uint8_t, Floats> bytes;
  const int lanes = static_cast<int>(hn::Lanes(f));
  const auto set = [&](float v) { return hn::Set(f, v); };
  const V zero = hn::Zero(f), one = set(1.0f), minus_one = set(-1.0f), inverse = set(1.0f / m.edge),
          scale = set(profile_scale), two_thirds = set(2.0f / 3), fifth = set(0.2f), tiny = set(1e-6f),
          part = set(m.contrast / std::max(1.0f, m.middle));
  VectorSums s{zero, zero, zero, zero, zero, zero, zero, zero,
               zero, zero, zero, zero, zero, zero, zero, zero};
  PointSums sums;
  const auto profile = [&](V distance, V& slope, V& by_blur) {
    const V t = hn::Min(one, hn::Max(minus_one, hn::Mul(distance, inverse))), tt = hn::Mul(t, t),
            left = hn::Sub(one, tt);
    slope = hn::Mul(hn::Mul(scale, hn::Mul(left, left)), inverse);
    by_blur = hn::Neg(hn::Mul(slope, distance));
    return hn::Mul(hn::Mul(scale, t), hn::Sub(one, hn::Mul(tt, hn::Sub(two_thirds, hn::Mul(fifth, tt)))));
  };
  each_row(picture, m, [&](int y, int first, int last) {
    const uint8_t* row = picture.row(y);
    const float off = static_cast<float>(y) - static_cast<float>(m.at.y);
    const V dy = set(off), light_row = set(m.middle + m.slope_y * off);
    int i = first;
    for (; i <= last && i + lanes <= picture.width(); i += lanes) {
      const auto inside = hn::FirstN(f, static_cast<size_t>(last - i + 1));
      const V grey = hn::ConvertTo(f, hn::PromoteTo(whole, hn::LoadU(bytes, row + i)));
      const V dx = hn::Sub(hn::Iota(f, static_cast<float>(i)), set(static_cast<float>(m.at.x)));
      const V light = hn::Add(light_row, hn::Mul(set(m.slope_x), dx));
      V relative, jx, jy, js;
      if (m.kind == PointModel::dot) {
        const V sx = hn::Add(hn::Mul(set(m.a), dx), hn::Mul(set(m.b), dy)),
                sy = hn::Add(hn::Mul(set(m.b), dx), hn::Mul(set(m.c), dy));
        const V rims = hn::Sqrt(hn::Max(tiny, hn::Add(hn::Mul(sx, dx), hn::Mul(sy, dy))));
        const V length = hn::Max(tiny, hn::Sqrt(hn::Add(hn::Mul(sx, sx), hn::Mul(sy, sy))));
        V slope, by_blur;
        const V e = profile(hn::Div(hn::Mul(hn::Sub(rims, one), rims), length), slope, by_blur);
        const V half = set(0.5f * m.contrast);
        relative = hn::Sub(one, hn::Mul(hn::Mul(set(0.5f), part), hn::Sub(one, e)));
        const V steep = hn::Neg(hn::Div(hn::Mul(half, slope), length));
        jx = hn::Mul(steep, sx), jy = hn::Mul(steep, sy), js = hn::Mul(half, by_blur);
      } else {
        const V d1 = hn::Add(hn::Mul(set(m.a), dx), hn::Mul(set(m.b), dy)),
                d2 = hn::Add(hn::Mul(set(m.c), dx), hn::Mul(set(m.d), dy));
        V s1, s2, b1, b2;
        const V e1 = profile(d1, s1, b1), e2 = profile(d2, s2, b2), contrast = set(m.contrast);
        relative = hn::Add(one, hn::Mul(part, hn::Mul(e1, e2)));
        const V g1 = hn::Mul(contrast, hn::Mul(s1, e2)), g2 = hn::Mul(contrast, hn::Mul(e1, s2));
        jx = hn::Neg(hn::Add(hn::Mul(g1, set(m.a)), hn::Mul(g2, set(m.c))));
        jy = hn::Neg(hn::Add(hn::Mul(g1, set(m.b)), hn::Mul(g2, set(m.d))));
        js = hn::Mul(contrast, hn::Add(hn::Mul(b1, e2), hn::Mul(e1, b2)));
      }
      const V r = hn::Sub(grey, hn::Mul(light, relative)),
              u = hn::IfThenElseZero(inside, hn::Mul(dx, relative)),
              v = hn::IfThenElseZero(inside, hn::Mul(dy, relative));
      jx = hn::IfThenElseZero(inside, jx), jy = hn::IfThenElseZero(inside, jy),
      js = hn::IfThenElseZero(inside, js);
      const auto add = [](V& sum, V a, V b) { sum = hn::Add(sum, hn::Mul(a, b)); };
      add(s.xx, jx, jx), add(s.xy, jx, jy), add(s.yy, jy, jy);
      add(s.xu, jx, u), add(s.xv, jx, v), add(s.yu, jy, u), add(s.yv, jy, v);
      add(s.uu, u, u), add(s.uv, u, v), add(s.vv, v, v);
      add(s.rx, r, jx), add(s.ry, r, jy), add(s.ru, r, u), add(s.rv, r, v);
      add(s.ss, js, js), add(s.sr, js, r);
    }
    add_point_row_plain(row, i, last, m, static_cast<float>(y), &sums);
  });
  const auto total = [&](float& sum, V v) { sum += hn::GetLane(hn::SumOfLanes(f, v)); };
  total(sums.xx, s.xx), total(sums.xy, s.xy), total(sums.yy, s.yy);
  total(sums.xu, s.xu), total(sums.xv, s.xv), total(sums.yu, s.yu), total(sums.yv, s.yv);
  total(sums.uu, s.uu), total(sums.uv, s.uv), total(sums.vv, s.vv);
  total(sums.rx, s.rx), total(sums.ry, s.ry), total(sums.ru, s.ru), total(sums.rv, s.rv);
  total(sums.blur_square, s.ss), total(sums.blur_residual, s.sr);
  return sums;
}

}  // namespace HWY_NAMESPACE
}  // namespace heron
HWY_AFTER_NAMESPACE();

#if HWY_ONCE
namespace heron {
HWY_EXPORT(sum_point);

PointSums point_sums(const ImageView<const uint8_t>& picture, const PointModel& model) {
  return HWY_DYNAMIC_DISPATCH(sum_point)(picture, model);
}

PointSums point_sums_plain(const ImageView<const uint8_t>& picture, const PointModel& model) {
  PointSums sums;
  each_row(picture, model, [&](int y, int first, int last) {
    add_point_row_plain(picture.row(y), first, last, model, static_cast<float>(y), &sums);
  });
  return sums;
}

PointStep point_step(const ImageView<const uint8_t>& picture, const PointModel& model) {
  const PointSums s = point_sums(picture, model);
  Eigen::Matrix4d a;
  a << s.xx, s.xy, s.xu, s.xv, s.xy, s.yy, s.yu, s.yv, s.xu, s.yu, s.uu, s.uv, s.xv, s.yv, s.uv, s.vv;
  const Eigen::Vector4d b(s.rx, s.ry, s.ru, s.rv);
  const Eigen::Vector4d step = a.inverse() * b;
  PointStep result;
  result.good = step.allFinite() && s.blur_square > 0;
  result.shift = {step[0], step[1]};
  result.log_blur = s.blur_square > 0 ? static_cast<double>(s.blur_residual) / s.blur_square : 0;
  return result;
}

double learned_blur_px(std::vector<double> log_blurs) {
  if (log_blurs.empty()) return usual_blur_px;
  return usual_blur_px * std::exp(std::clamp(median(log_blurs), -0.5, 0.8));
}

}  // namespace heron
#endif
