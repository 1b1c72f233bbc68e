#include "locate/rim_sums.hpp"

#undef HWY_TARGET_INCLUDE
#define HWY_TARGET_INCLUDE "locate/rim_sums.cpp"
#include <hwy/foreach_target.h>
#include <hwy/highway.h>

#include "hwy/contrib/math/math-inl.h"

#ifndef HERON_RIM_ROW
#define HERON_RIM_ROW
namespace heron {

/// A row of the picture before the ellipse: u = (x_by_x dx - x_by_y, y_by_y - y_by_x dx).
struct RimRow {
  int y;
  double centre_x, x_by_x, x_by_y, y_by_x, y_by_y, least, most, sectors;
};

struct RimPixel {
  uint32_t sector;
  int x, y;
};

}  // namespace heron
#endif

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
  const auto one = set(1), half = set(0.5), zero = hn::Zero(f);
  const auto band = set(band_of(rim)), blur = set(rim.blur), per_blur = set(1 / rim.blur);
  const auto pulled = set(rim.blur * rim.blur / (2 * rim.radius));
  const auto bell_scale = set(0.3989422804014327 / rim.blur);
  for (size_t sector = 0; sector + 1 < pixels.first.size(); ++sector) {
    V slopes[21], inside[6], outside[6], grey[6], light[3], light_grey[2], square = zero, count = zero;
    for (V& v : slopes) v = zero;
    for (V& v : light) v = zero;
    for (V& v : light_grey) v = zero;
    for (int i = 0; i < 6; ++i) inside[i] = outside[i] = grey[i] = zero;
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
      const auto fall = hn::Exp(f, hn::Neg(hn::Mul(half, hn::Mul(z, z))));
      // The tail of the normal distribution (Hastings, Approximations for digital computers, 1955: errs by
      // less than 1e-7).
      const auto t = hn::Div(one, hn::MulAdd(set(0.3275911 / 1.4142135623730951), hn::Abs(z), one));
      auto tail = hn::MulAdd(set(1.061405429), t, set(-1.453152027));
      tail = hn::MulAdd(tail, t, set(1.421413741)), tail = hn::MulAdd(tail, t, set(-0.284496736));
      tail = hn::MulAdd(tail, t, set(0.254829592));
      tail = hn::Mul(half, hn::Mul(hn::Mul(tail, t), fall));
      const auto beyond = hn::Gt(z, zero);
      const auto share_out = hn::IfThenElse(beyond, hn::Sub(one, tail), tail),
                 share_in = hn::IfThenElse(beyond, tail, hn::Sub(one, tail));
      const auto seen = hn::LoadU(f, pixels.grey.data() + i);
      const auto expected = hn::MulAdd(share_in, level_in, hn::Mul(share_out, level_out));
      const auto tells = hn::AndNot(hn::And(hn::Ge(seen, full), hn::Ge(expected, full)), counts);
      const auto mask = hn::IfThenElseZero(tells, one);
      const auto out = hn::IfThenElseZero(tells, share_out), in = hn::IfThenElseZero(tells, share_in);
      const auto bell = hn::IfThenElseZero(tells, hn::Mul(bell_scale, fall)), back = hn::Neg(bell);
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
    }
    RimSums& sum = sums[sector];
    const auto total = [&](V v) HWY_ATTR { return hn::GetLane(hn::SumOfLanes(f, v)); };
    for (size_t i = 0; i < 21; ++i) sum.slopes[i] = total(slopes[i]);
    for (size_t i = 0; i < 6; ++i)
      sum.inside[i] = total(inside[i]), sum.outside[i] = total(outside[i]), sum.grey[i] = total(grey[i]);
    for (size_t i = 0; i < 3; ++i) sum.light[i] = total(light[i]);
    for (size_t i = 0; i < 2; ++i) sum.light_grey[i] = total(light_grey[i]);
    sum.grey_square = total(square), sum.count = total(count);
  }
}

/// The pixels of a row from `first` to `end` whose |u|^2 lies between two bounds; returns how many. `found`
/// must have room for 16 more.
size_t near_in_row_kernel(const RimRow& row, int first, int end, RimPixel* found) {
  const hn::CappedTag<float, 16> f;
  const hn::RebindToSigned<decltype(f)> whole;
  const auto set = [&](double v) HWY_ATTR { return hn::Set(f, static_cast<float>(v)); };
  const int lanes = static_cast<int>(hn::Lanes(f));
  HWY_ALIGN float xs[16], sectors[16];
  size_t count = 0;
  const auto one = set(1), quarter = set(0.25 * std::numbers::pi), turn = set(2 * std::numbers::pi);
  for (int x = first; x < end; x += lanes) {
    const auto place = hn::ConvertTo(f, hn::Iota(whole, x));
    const auto dx = hn::Sub(place, set(row.centre_x));
    const auto ux = hn::Sub(hn::Mul(set(row.x_by_x), dx), set(row.x_by_y)),
               uy = hn::Sub(set(row.y_by_y), hn::Mul(set(row.y_by_x), dx));
    const auto square = hn::MulAdd(ux, ux, hn::Mul(uy, uy));
    const auto near = hn::And(hn::And(hn::Ge(square, set(row.least)), hn::Le(square, set(row.most))),
                              hn::Lt(place, set(end)));
    if (hn::AllFalse(f, near)) continue;
    // By an arc tangent that errs by 0.004: where exactly one sector ends does not matter.
    const auto ax = hn::Abs(ux), ay = hn::Abs(uy);
    const auto flat = hn::Div(hn::Min(ax, ay), hn::Max(hn::Max(ax, ay), set(1e-12)));
    auto angle = hn::Mul(flat, hn::MulAdd(set(0.273), hn::Sub(one, flat), quarter));
    angle = hn::IfThenElse(hn::Gt(ay, ax), hn::Sub(set(0.5 * std::numbers::pi), angle), angle);
    angle = hn::IfThenElse(hn::Lt(ux, hn::Zero(f)), hn::Sub(set(std::numbers::pi), angle), angle);
    angle = hn::IfThenElse(hn::Lt(uy, hn::Zero(f)), hn::Sub(turn, angle), angle);
    const size_t kept = hn::CompressStore(place, near, f, xs);
    hn::CompressStore(hn::Mul(angle, set(row.sectors / (2 * std::numbers::pi))), near, f, sectors);
    for (size_t i = 0; i < kept; ++i)
      found[count++] = {static_cast<uint32_t>(sectors[i]), static_cast<int>(xs[i]), row.y};
  }
  return count;
}

}  // namespace HWY_NAMESPACE
}  // namespace heron
HWY_AFTER_NAMESPACE();

#if HWY_ONCE
#include "feature/blurred_step.hpp"

namespace heron {
HWY_EXPORT(rim_sums_kernel);
HWY_EXPORT(near_in_row_kernel);

bool RimPixels::serve(const RimFit& rim) const {
  const double moved = distance(about.centre, rim.centre) + std::abs(about.radius - rim.radius) +
                       std::hypot(about.a - rim.a, about.b - rim.b);
  return moved + band_of(rim) <= band + slack;
}

RimPixels pixels_near(const Image<uint8_t>& picture, const RimFit& rim, size_t sectors) {
  constexpr size_t vector = 16;
  constexpr float nowhere = 1e6f;
  RimPixels all;
  all.slack = 1.5, all.about = rim, all.band = band_of(rim);
  all.origin = {std::floor(rim.centre.x), std::floor(rim.centre.y)};
  all.first.assign(sectors + 1, 0), all.level.assign(sectors, 0), all.blinded.assign(sectors, 0);
  const double p = rim.radius + rim.a, q = rim.b, s = rim.radius - rim.a, det = p * s - q * q;
  // Whole numbers end, and no picture is as large.
  const bool somewhere = rim.radius < 1e6 && std::abs(rim.centre.x) < 1e6 && std::abs(rim.centre.y) < 1e6;
  if (!(det > 1) || !somewhere) return all;
  const double per_det = 1 / det, band = all.band + all.slack, most = rim.long_axis() + band;
  const int x0 = std::max(0, static_cast<int>(std::floor(rim.centre.x - most))),
            x1 = std::min(picture.width() - 1, static_cast<int>(std::ceil(rim.centre.x + most))),
            y0 = std::max(0, static_cast<int>(std::floor(rim.centre.y - most))),
            y1 = std::min(picture.height() - 1, static_cast<int>(std::ceil(rim.centre.y + most)));
  if (x1 < x0 || y1 < y0) return all;
  const double hole = std::max(0.0, rim.short_axis() - band - 1), share = band / rim.short_axis();
  const double least = share < 1 ? (1 - share) * (1 - share) : 0, largest = (1 + share) * (1 + share);
  std::vector<RimPixel> near;
  size_t held = 0;
  constexpr int vector_room = 16;
  for (int y = y0; y <= y1; ++y) {
    near.resize(held + static_cast<size_t>(x1 - x0 + 1 + vector_room));
    const double dy = y - rim.centre.y, half = std::sqrt(std::max(0.0, hole * hole - dy * dy));
    const RimRow row{.y = y,
                     .centre_x = rim.centre.x,
                     .x_by_x = s * per_det,
                     .x_by_y = q * dy * per_det,
                     .y_by_x = q * per_det,
                     .y_by_y = p * dy * per_det,
                     .least = least,
                     .most = largest,
                     .sectors = static_cast<double>(sectors)};
    const auto look = [&](int from, int end) {
      if (from < end) held += HWY_DYNAMIC_DISPATCH(near_in_row_kernel)(row, from, end, near.data() + held);
    };
    // What lies inside the rim is passed over.
    if (half > 1) {
      look(x0, std::clamp(static_cast<int>(std::ceil(rim.centre.x - half)), x0, x1 + 1));
      look(std::clamp(static_cast<int>(std::floor(rim.centre.x + half)) + 1, x0, x1 + 1), x1 + 1);
    } else {
      look(x0, x1 + 1);
    }
  }
  near.resize(held);
  for (RimPixel& n : near) n.sector = std::min(n.sector, static_cast<uint32_t>(sectors - 1));
  std::vector<size_t> counts(sectors, 0), next(sectors);
  for (const RimPixel& n : near) ++counts[n.sector], all.level[n.sector] += picture(n.x, n.y);
  for (size_t i = 0; i < sectors; ++i) {
    next[i] = all.first[i];
    all.first[i + 1] = all.first[i] + (counts[i] + vector - 1) / vector * vector;
    all.level[i] /= static_cast<float>(std::max<size_t>(counts[i], 1));
  }
  all.x.assign(all.first.back(), nowhere), all.y.assign(all.first.back(), nowhere);
  all.grey.assign(all.first.back(), 0);
  std::vector<float> brighter(sectors, 0);
  for (const RimPixel& n : near) {
    const uint8_t grey = picture(n.x, n.y);
    if (grey <= all.level[n.sector]) continue;
    ++brighter[n.sector], all.blinded[n.sector] += grey >= brightest ? 1.0f : 0.0f;
  }
  for (size_t i = 0; i < sectors; ++i) all.blinded[i] /= std::max(brighter[i], 1.0f);
  for (const RimPixel& n : near) {
    const size_t at = next[n.sector]++;
    all.x[at] = static_cast<float>(n.x - all.origin.x), all.y[at] = static_cast<float>(n.y - all.origin.y);
    all.grey[at] = picture(n.x, n.y) - all.level[n.sector];
  }
  return all;
}

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
    }
  }
}

}  // namespace heron
#endif
