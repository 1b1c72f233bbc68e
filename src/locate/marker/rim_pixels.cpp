#include "locate/marker/rim_pixels.hpp"

#include "image/vector_padding.hpp"

#undef HWY_TARGET_INCLUDE
#define HWY_TARGET_INCLUDE "locate/marker/rim_pixels.cpp"
#include <hwy/foreach_target.h>
#include <hwy/highway.h>

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
  float grey;
};

}  // namespace heron
#endif

HWY_BEFORE_NAMESPACE();
namespace heron {
namespace HWY_NAMESPACE {
namespace hn = hwy::HWY_NAMESPACE;

/// The pixels of a row from `first` to `end` whose |u|^2 lies between two bounds; returns how many. `found`
/// must have room for 16 more.
size_t near_in_row_kernel(const RimRow& row, const uint8_t* greys, int first, int end, RimPixel* found) {
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
    for (size_t i = 0; i < kept; ++i) {
      const int at = static_cast<int>(xs[i]);
      found[count++] = {static_cast<uint32_t>(sectors[i]), at, row.y, static_cast<float>(greys[at])};
    }
  }
  return count;
}

}  // namespace HWY_NAMESPACE
}  // namespace heron
HWY_AFTER_NAMESPACE();

#if HWY_ONCE
namespace heron {
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
  for (int y = y0; y <= y1; ++y) {
    near.resize(held + static_cast<size_t>(x1 - x0 + 1) + vector_padding);
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
      if (from < end)
        held += HWY_DYNAMIC_DISPATCH(near_in_row_kernel)(row, picture.row(y), from, end, near.data() + held);
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
  for (const RimPixel& n : near) ++counts[n.sector], all.level[n.sector] += n.grey;
  for (size_t i = 0; i < sectors; ++i) {
    next[i] = all.first[i];
    all.first[i + 1] = all.first[i] + (counts[i] + vector - 1) / vector * vector;
    all.level[i] /= static_cast<float>(std::max<size_t>(counts[i], 1));
  }
  all.x.assign(all.first.back(), nowhere), all.y.assign(all.first.back(), nowhere);
  all.grey.assign(all.first.back(), 0);
  std::vector<float> brighter(sectors, 0);
  for (const RimPixel& n : near) {
    if (n.grey <= all.level[n.sector]) continue;
    ++brighter[n.sector], all.blinded[n.sector] += n.grey >= brightest ? 1.0f : 0.0f;
  }
  for (size_t i = 0; i < sectors; ++i) all.blinded[i] /= std::max(brighter[i], 1.0f);
  for (const RimPixel& n : near) {
    const size_t at = next[n.sector]++;
    all.x[at] = static_cast<float>(n.x - all.origin.x), all.y[at] = static_cast<float>(n.y - all.origin.y);
    all.grey[at] = n.grey - all.level[n.sector];
  }
  return all;
}

}  // namespace heron
#endif
