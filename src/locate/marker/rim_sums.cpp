#include "locate/marker/rim_sums.hpp"

#undef HWY_TARGET_INCLUDE
#define HWY_TARGET_INCLUDE "locate/marker/rim_sums.cpp"
#include <hwy/foreach_target.h>
#include <hwy/highway.h>

#include "feature/blurred_step-inl.hpp"

HWY_BEFORE_NAMESPACE();
namespace heron {
namespace HWY_NAMESPACE {
namespace hn = hwy::HWY_NAMESPACE;

void rim_sums_kernel(const RimPixels& pixels, const RimFit& rim, const std::vector<RimLight>& lights,
                     std::vector<RimSums>& sums) {
  const hn::CappedTag<float, 16> f;
  using V = hn::Vec<decltype(f)>;
  const auto set = [&](double v) HWY_ATTR { return hn::Set(f, static_cast<float>(v)); };
  const size_t lanes = hn::Lanes(f);
  const double det = (rim.radius + rim.a) * (rim.radius - rim.a) - rim.b * rim.b;
  const auto cx = set(rim.centre.x - pixels.origin.x), cy = set(rim.centre.y - pixels.origin.y);
  const auto p = set((rim.radius + rim.a) / det), q = set(rim.b / det), s = set((rim.radius - rim.a) / det);
  const auto one = set(1), zero = hn::Zero(f);
  const auto band = set(band_of(rim)), blur = set(rim.blur), per_blur = set(1 / rim.blur);
  const auto pulled = set(rim.blur * rim.blur / (2 * rim.radius));
  const auto bell_scale = set(0.3989422804014327 / rim.blur);
  const auto ring_from = set(ring_begins * band_of(rim)), ring_apart = set(ring_parts * band_of(rim));
  for (size_t sector = 0; sector + 1 < pixels.first.size(); ++sector) {
    V slopes[21], inside[6], outside[6], grey[6], light[3], light_grey[2], square = zero, count = zero;
    for (V& v : slopes) v = zero;
    for (V& v : light) v = zero;
    for (V& v : light_grey) v = zero;
    for (int i = 0; i < 6; ++i) inside[i] = outside[i] = grey[i] = zero;
    V ring_count[4], ring_grey[4], ring_phi[4];
    for (int i = 0; i < 4; ++i) ring_count[i] = ring_grey[i] = ring_phi[i] = zero;
    const auto full = set(brightest - pixels.level[sector]);
    const auto level_in = set(lights.empty() ? -1e6 : lights[sector].inside - pixels.level[sector]),
               level_out = set(lights.empty() ? -1e6 : lights[sector].outside - pixels.level[sector]);
    for (size_t i = pixels.first[sector]; i < pixels.first[sector + 1]; i += lanes) {
      const auto dx = hn::Sub(hn::LoadU(f, pixels.x.data() + i), cx),
                 dy = hn::Sub(hn::LoadU(f, pixels.y.data() + i), cy);
      // u = A^-1 d; F = |u| - 1; the distance is F over the length of its gradient.
      const auto ux = hn::Sub(hn::Mul(s, dx), hn::Mul(q, dy)), uy = hn::Sub(hn::Mul(p, dy), hn::Mul(q, dx));
      const auto rho = hn::Sqrt(hn::MulAdd(ux, ux, hn::Mul(uy, uy)));
      const auto per_rho = hn::Div(one, hn::Max(rho, set(1e-3)));
      const auto ex = hn::Mul(ux, per_rho), ey = hn::Mul(uy, per_rho);
      const auto gx = hn::Sub(hn::Mul(s, ex), hn::Mul(q, ey)), gy = hn::Sub(hn::Mul(p, ey), hn::Mul(q, ex));
      const auto per_steep = hn::Div(one, hn::Sqrt(hn::Max(hn::MulAdd(gx, gx, hn::Mul(gy, gy)), set(1e-12))));
      const auto away = hn::Mul(hn::Sub(rho, one), per_steep);
      const auto counts = hn::And(hn::Le(hn::Abs(away), band), hn::Ge(rho, set(0.1)));
      if (hn::AllFalse(f, counts)) continue;
      const auto nx = hn::Mul(gx, per_steep), ny = hn::Mul(gy, per_steep);
      // Blur pulls a curved edge towards its centre.
      const auto z = hn::IfThenElseZero(counts, hn::Mul(hn::Add(away, pulled), per_blur));
      const auto step = blurred_steps(f, z);
      const auto share_out = step.value, share_in = step.rest;
      const auto seen = hn::LoadU(f, pixels.grey.data() + i);
      const auto expected = hn::MulAdd(share_in, level_in, hn::Mul(share_out, level_out));
      const auto tells = hn::AndNot(hn::And(hn::Ge(seen, full), hn::Ge(expected, full)), counts);
      const auto mask = hn::IfThenElseZero(tells, one);
      const auto out = hn::IfThenElseZero(tells, share_out), in = hn::IfThenElseZero(tells, share_in);
      const auto bell = hn::IfThenElseZero(tells, hn::Mul(bell_scale, step.fall)), back = hn::Neg(bell);
      // d away: the centre moves it by -normal, r by -1, a and b by the ellipse's own turn.
      const V by[6] = {hn::Mul(back, nx),
                       hn::Mul(back, ny),
                       hn::Mul(back, hn::MulAdd(nx, ex, hn::Mul(ny, ey))),
                       hn::Mul(back, hn::Sub(hn::Mul(nx, ex), hn::Mul(ny, ey))),
                       hn::Mul(back, hn::MulAdd(nx, ey, hn::Mul(ny, ex))),
                       hn::Mul(back, hn::Mul(z, blur))};
      const auto g = hn::Mul(mask, seen);
      for (int a = 0, k = 0; a < 6; ++a) {
        for (int b = a; b < 6; ++b, ++k) slopes[k] = hn::MulAdd(by[a], by[b], slopes[k]);
        inside[a] = hn::MulAdd(by[a], in, inside[a]), outside[a] = hn::MulAdd(by[a], out, outside[a]);
        grey[a] = hn::MulAdd(by[a], g, grey[a]);
      }
      light[0] = hn::MulAdd(in, in, light[0]), light[1] = hn::MulAdd(in, out, light[1]);
      light[2] = hn::MulAdd(out, out, light[2]);
      light_grey[0] = hn::MulAdd(in, g, light_grey[0]), light_grey[1] = hn::MulAdd(out, g, light_grey[1]);
      square = hn::MulAdd(g, g, square), count = hn::Add(count, mask);
      const auto far = hn::Gt(hn::Abs(away), ring_from), outer = hn::Gt(away, zero),
                 last = hn::Gt(hn::Abs(away), ring_apart);
      const decltype(far) rings[4] = {hn::AndNot(last, hn::AndNot(outer, far)), hn::AndNot(outer, last),
                                      hn::AndNot(last, hn::And(far, outer)), hn::And(last, outer)};
      for (int k = 0; k < 4; ++k) {
        ring_count[k] = hn::Add(ring_count[k], hn::IfThenElseZero(rings[k], mask));
        ring_grey[k] = hn::Add(ring_grey[k], hn::IfThenElseZero(rings[k], g));
        ring_phi[k] = hn::Add(ring_phi[k], hn::IfThenElseZero(rings[k], out));
      }
    }
    RimSums& sum = sums[sector];
    const auto total = [&](V v) HWY_ATTR { return hn::GetLane(hn::SumOfLanes(f, v)); };
    for (size_t i = 0; i < 21; ++i) sum.slopes[i] = total(slopes[i]);
    for (size_t i = 0; i < 6; ++i)
      sum.inside[i] = total(inside[i]), sum.outside[i] = total(outside[i]), sum.grey[i] = total(grey[i]);
    for (size_t i = 0; i < 3; ++i) sum.light[i] = total(light[i]);
    for (size_t i = 0; i < 2; ++i) sum.light_grey[i] = total(light_grey[i]);
    sum.grey_square = total(square), sum.count = total(count);
    for (size_t k = 0; k < 4; ++k)
      sum.rings[k] = {total(ring_count[k]), total(ring_grey[k]), total(ring_phi[k])};
  }
}

}  // namespace HWY_NAMESPACE
}  // namespace heron
HWY_AFTER_NAMESPACE();

#if HWY_ONCE
#include "feature/blurred_step.hpp"

namespace heron {
HWY_EXPORT(rim_sums_kernel);

void rim_sums(const RimPixels& pixels, const RimFit& rim, const std::vector<RimLight>& lights,
              std::vector<RimSums>& sums) {
  sums.resize(pixels.level.size());
  HWY_DYNAMIC_DISPATCH(rim_sums_kernel)(pixels, rim, lights, sums);
}

void rim_sums_plain(const RimPixels& pixels, const RimFit& rim, const std::vector<RimLight>& lights,
                    std::vector<RimSums>& sums) {
  sums.assign(pixels.level.size(), {});
  const double p = rim.radius + rim.a, q = rim.b, s = rim.radius - rim.a, det = p * s - q * q;
  for (size_t sector = 0; sector < sums.size(); ++sector) {
    RimSums& sum = sums[sector];
    for (size_t i = pixels.first[sector]; i < pixels.first[sector + 1]; ++i) {
      const Point2 d = Point2{pixels.x[i], pixels.y[i]} + pixels.origin - rim.centre,
                   u{(s * d.x - q * d.y) / det, (p * d.y - q * d.x) / det};
      const double rho = norm(u);
      if (rho < 0.1) continue;
      const Point2 e = u * (1 / rho), gradient{(s * e.x - q * e.y) / det, (p * e.y - q * e.x) / det},
                   n = gradient * (1 / norm(gradient));
      const double away = (rho - 1) / norm(gradient);
      if (std::abs(away) > band_of(rim)) continue;
      const double z = (away + rim.blur * rim.blur / (2 * rim.radius)) / rim.blur;
      const auto [out, density] = blurred_step(z);
      const double in = 1 - out, bell = density / rim.blur, g = pixels.grey[i];
      const double level = pixels.level[sector];
      if (!lights.empty() && g + level >= brightest &&
          in * lights[sector].inside + out * lights[sector].outside >= brightest)
        continue;
      const std::array<double, 6> by{-bell * n.x,
                                     -bell * n.y,
                                     -bell * dot(n, e),
                                     -bell * (n.x * e.x - n.y * e.y),
                                     -bell * (n.x * e.y + n.y * e.x),
                                     -bell * z * rim.blur};
      const auto add = [](float& to, double v) { to = static_cast<float>(to + v); };
      for (size_t a = 0, k = 0; a < 6; ++a) {
        for (size_t b = a; b < 6; ++b, ++k) add(sum.slopes[k], by[a] * by[b]);
        add(sum.inside[a], by[a] * in), add(sum.outside[a], by[a] * out), add(sum.grey[a], by[a] * g);
      }
      add(sum.light[0], in * in), add(sum.light[1], in * out), add(sum.light[2], out * out);
      add(sum.light_grey[0], in * g), add(sum.light_grey[1], out * g);
      add(sum.grey_square, g * g), add(sum.count, 1);
      const double share = std::abs(away) / band_of(rim);
      if (share <= ring_begins) continue;
      RimSums::Ring& ring = sum.rings[(away > 0 ? 2U : 0U) + (share > ring_parts ? 1U : 0U)];
      add(ring.count, 1), add(ring.grey, g), add(ring.phi, out);
    }
  }
}

}  // namespace heron
#endif
