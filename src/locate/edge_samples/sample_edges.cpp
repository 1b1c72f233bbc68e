#include "locate/edge_samples/sample_edges.hpp"

#undef HWY_TARGET_INCLUDE
#define HWY_TARGET_INCLUDE "locate/edge_samples/sample_edges.cpp"
#include <hwy/foreach_target.h>
#include <hwy/highway.h>

#include "hwy/contrib/math/math-inl.h"
#include "image/bilinear-inl.hpp"
#include "locate/edge_samples/edge_profile.hpp"

HWY_BEFORE_NAMESPACE();
namespace heron {
namespace HWY_NAMESPACE {
namespace hn = hwy::HWY_NAMESPACE;

using Floats = hn::ScalableTag<float>;
using V = hn::Vec<Floats>;

void meet_edges_kernel(const Image<uint8_t>& picture, const EdgeColumns& edges, const EdgeScan& scan,
                       EdgeSamples& met) {
  const Floats f;
  const auto set = [&](double v) HWY_ATTR { return hn::Set(f, static_cast<float>(v)); };
  const size_t lanes = hn::Lanes(f);
  const double floor_x = 2 * std::floor(scan.origin.x / 2), floor_y = 2 * std::floor(scan.origin.y / 2);
  const Bilinear sample{picture, static_cast<int>(floor_x), static_cast<int>(floor_y)};
  const auto from_x = set(scan.origin.x - floor_x), from_y = set(scan.origin.y - floor_y);
  const double turn_c = cos(scan.angle), turn_s = sin(scan.angle);
  const auto c = set(turn_c), s = set(turn_s), cs = set(scan.scale * turn_c), ss = set(scan.scale * turn_s);
  const int reach = scan.reach;
  const auto far = set(reach + 1.0), one = set(1), zero = hn::Zero(f);
  const auto right = set(picture.width() - 1 - floor_x), below = set(picture.height() - 1 - floor_y),
             left = set(-floor_x), above = set(-floor_y);
  // Where a scan would leave the picture, its middle is read instead and forgotten.
  const auto middle_x = set(0.5 * picture.width() - floor_x),
             middle_y = set(0.5 * picture.height() - floor_y);
  const auto least = set(std::max(scan.min_contrast, 1e-3));
  const double fall = 0.35 / ((reach + 1.0) * (reach + 1.0));

  constexpr int max_reach = 6, max_samples = 2 * max_reach + 3;
  constexpr size_t max_lanes = HWY_MAX_BYTES / sizeof(int32_t);
  HWY_ALIGN int32_t pixels[max_samples * max_lanes];
  Bilinear::Between lies[max_samples];
  for (size_t i = 0; i < edges.count; i += lanes) {
    const auto ex = hn::LoadU(f, edges.x.data() + i), ey = hn::LoadU(f, edges.y.data() + i);
    const auto mx = hn::LoadU(f, edges.normal_x.data() + i), my = hn::LoadU(f, edges.normal_y.data() + i);
    auto x = hn::Add(from_x, hn::Sub(hn::Mul(cs, ex), hn::Mul(ss, ey)));
    auto y = hn::Add(from_y, hn::Add(hn::Mul(ss, ex), hn::Mul(cs, ey)));
    const auto nx = hn::Sub(hn::Mul(c, mx), hn::Mul(s, my)), ny = hn::Add(hn::Mul(s, mx), hn::Mul(c, my));
    const auto reach_x = hn::MulAdd(far, hn::Abs(nx), one), reach_y = hn::MulAdd(far, hn::Abs(ny), one);
    const auto inside =
        hn::And(hn::And(hn::Ge(hn::Sub(x, reach_x), left), hn::Lt(hn::Add(x, reach_x), right)),
                hn::And(hn::Ge(hn::Sub(y, reach_y), above), hn::Lt(hn::Add(y, reach_y), below)));
    if (hn::AllFalse(f, inside)) {
      hn::StoreU(zero, f, met.contrast.data() + i);
      continue;
    }
    x = hn::IfThenElse(inside, x, middle_x), y = hn::IfThenElse(inside, y, middle_y);
    const int samples = 2 * reach + 3;
    for (int k = 0; k < samples; ++k) {
      const auto by = set(k - reach - 1);
      lies[k] = sample.find(hn::MulAdd(by, nx, x), hn::MulAdd(by, ny, y), pixels + k * max_lanes);
    }
    for (int k = 0; k < samples; ++k) sample.read(pixels + k * max_lanes, lanes);
    const auto along = [&](int k) HWY_ATTR {
      return sample.mix(pixels + (k + reach + 1) * max_lanes, lies[k + reach + 1]);
    };

    auto v0 = along(-reach - 1), v1 = along(-reach);
    auto best_value = set(-1e9), best = zero, here = zero, before = zero, after = zero, last = zero;
    for (int k = -reach; k <= reach; ++k) {
      const auto v2 = along(k + 1);
      auto rise = hn::Sub(v2, v0);
      if (scan.falling) rise = hn::Neg(rise);
      const auto value = hn::Mul(rise, set(1 - fall * k * k));
      if (k > -reach) after = hn::IfThenElse(hn::Eq(best, set(k - 1.0)), rise, after);
      const auto better = hn::Gt(value, best_value);
      best_value = hn::IfThenElse(better, value, best_value);
      best = hn::IfThenElse(better, set(k), best);
      here = hn::IfThenElse(better, rise, here);
      before = hn::IfThenElse(better, last, before);
      last = rise, v0 = v1, v1 = v2;
    }
    const auto met_here = hn::And(inside, hn::Ge(here, least));
    // The derivative of a blurred step is close to a Gaussian, whose logarithm is a parabola.
    const auto safe = hn::Max(here, set(1e-3)), floor = hn::Mul(safe, set(0.02));
    const auto a = hn::Log(f, hn::Max(before, floor)), b = hn::Log(f, safe),
               d = hn::Log(f, hn::Max(after, floor));
    const auto bend = hn::Sub(hn::Add(a, d), hn::Add(b, b));
    auto sub = hn::Div(hn::Mul(set(0.5), hn::Sub(a, d)), hn::Min(bend, set(-1e-6)));
    sub = hn::Min(hn::Max(sub, set(-0.5)), set(0.5));
    const auto between = hn::And(hn::Lt(hn::Abs(best), set(reach)), hn::Lt(bend, zero));
    const auto offset = hn::Add(best, hn::IfThenElseZero(between, sub));
    const auto at_x = hn::MulAdd(offset, nx, x), at_y = hn::MulAdd(offset, ny, y);
    const auto one_side = sample.find(hn::Sub(at_x, ny), hn::Add(at_y, nx), pixels),
               other_side = sample.find(hn::Add(at_x, ny), hn::Sub(at_y, nx), pixels + max_lanes);
    sample.read(pixels, lanes), sample.read(pixels + max_lanes, lanes);
    const auto across = hn::Sub(sample.mix(pixels, one_side), sample.mix(pixels + max_lanes, other_side));
    // One over the gradient's length; near enough after a step of Newton's.
    const auto square = hn::MulAdd(across, across, hn::Mul(safe, safe)),
               rough = hn::ApproximateReciprocalSqrt(square),
               per_length =
                   hn::Mul(rough, hn::NegMulAdd(hn::Mul(set(0.5), square), hn::Mul(rough, rough), set(1.5)));
    hn::StoreU(offset, f, met.offset.data() + i);
    hn::StoreU(hn::Mul(safe, per_length), f, met.cosine.data() + i);
    hn::StoreU(hn::IfThenElseZero(met_here, here), f, met.contrast.data() + i);
  }
}

}  // namespace HWY_NAMESPACE
}  // namespace heron
HWY_AFTER_NAMESPACE();

#if HWY_ONCE
namespace heron {
HWY_EXPORT(meet_edges_kernel);

static void make_room(const EdgeColumns& edges, EdgeSamples& met) {
  for (std::vector<float>* column : {&met.offset, &met.contrast, &met.cosine})
    if (column->size() < edges.x.size()) column->resize(edges.x.size());
}

void sample_edges(const Image<uint8_t>& picture, const EdgeColumns& edges, const EdgeScan& scan,
                  EdgeSamples& met) {
  make_room(edges, met);
  // A scan never fits into a picture this small, nor at a place where whole numbers end.
  if (std::min(picture.width(), picture.height()) < 5 || std::abs(scan.origin.x) > 1e6 ||
      std::abs(scan.origin.y) > 1e6) {
    std::fill(met.contrast.begin(), met.contrast.end(), 0.0f);
    return;
  }
  HWY_DYNAMIC_DISPATCH(meet_edges_kernel)(picture, edges, scan, met);
}

void sample_edges_plain(const Image<uint8_t>& picture, const EdgeColumns& edges, const EdgeScan& scan,
                        EdgeSamples& met) {
  make_room(edges, met);
  for (size_t i = 0; i < edges.count; ++i) {
    const Point2 place{edges.x[i], edges.y[i]}, normal{edges.normal_x[i], edges.normal_y[i]};
    const EdgeMet edge = meet_edge(picture, scan.origin + rotated(place, scan.angle) * scan.scale,
                                   rotated(normal, scan.angle), scan.reach, scan.min_contrast, scan.falling);
    met.offset[i] = static_cast<float>(edge.offset);
    met.contrast[i] = edge.met ? static_cast<float>(edge.contrast) : 0.0f;
    met.cosine[i] = static_cast<float>(edge.cosine);
  }
}

}  // namespace heron
#endif
