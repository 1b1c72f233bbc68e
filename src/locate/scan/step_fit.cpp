#include "locate/scan/step_fit.hpp"

#undef HWY_TARGET_INCLUDE
#define HWY_TARGET_INCLUDE "locate/scan/step_fit.cpp"
#include <hwy/foreach_target.h>
#include <hwy/highway.h>

#include "feature/blurred_step-inl.hpp"

#ifndef HERON_STEP_FIT_BLOCK
#define HERON_STEP_FIT_BLOCK
namespace heron {

constexpr int most_lanes = 16;  // searches side by side
constexpr double usual_blur = 0.95, sharpest = 0.5, softest = 3;
constexpr int most_rounds = 12;
// From this round on the same steps count: one at the end of the reach could swing the fit.
constexpr int settled_from = 4;
// A fit that moves by less, in steps or in sigmas that the noise alone gives it, is done.
constexpr double at_rest = 1e-4, at_rest_in_sigmas = 0.02;
// From this round on a fit is given up where its contrast is less than half of what is of use.
constexpr int given_up_from = 3;

/// Searches side by side: row by row, a column each.
struct StepBlock {
  alignas(64) float value[search_steps * most_lanes];   ///< of the profile, less `level`
  alignas(64) float inside[search_steps * most_lanes];  ///< 1, or 0 beyond the profile's ends
  alignas(64) float skew[search_steps * most_lanes];
  alignas(64) float start[most_lanes], reach[most_lanes];  ///< `start` from the first row
  alignas(64) float noise[most_lanes], least[most_lanes];
  alignas(64) float at[most_lanes], blur[most_lanes], contrast[most_lanes], sigma[most_lanes];  ///< results
  alignas(64) float met[most_lanes];  ///< 1: there is a step
};

}  // namespace heron
#endif

HWY_BEFORE_NAMESPACE();
namespace heron {
namespace HWY_NAMESPACE {
namespace hn = hwy::HWY_NAMESPACE;

using Floats = hn::CappedTag<float, most_lanes>;
using V = hn::Vec<Floats>;

/// Some lanes of a block in the course of their fit.
struct Fits {
  const StepBlock& block;
  size_t from;
  V at, blur, middle;  // `middle`: of the steps that count
  // Of the last sums: whether a step counts, its value of low and high side; the levels.
  V counts[search_steps], high[search_steps];
  V count, ll, lh, hh, per_det, low, rise;
  V pp, pb, bb, right_p, right_b;  // of place and blur, the levels eliminated, in units of the step's height
  hn::Mask<Floats> fails;
  int first = 0, last = 0;  // rows within reach

  Fits(const StepBlock& of, size_t lane, V start, V width)
      : block(of), from(lane), at(start), blur(width), middle(start) {}

  HWY_INLINE V seen(int k) const {
    return hn::Load(Floats(), block.value + static_cast<size_t>(k) * most_lanes + from);
  }

  HWY_INLINE V eliminated(V al, V ah, V cl, V ch) const {
    const auto to_l = hn::Mul(per_det, hn::Sub(hn::Mul(hh, cl), hn::Mul(lh, ch))),
               to_h = hn::Mul(per_det, hn::Sub(hn::Mul(ll, ch), hn::Mul(lh, cl)));
    return hn::MulAdd(al, to_l, hn::Mul(ah, to_h));
  }

  HWY_INLINE void add_up(V reach, V noise2) {
    const Floats f;
    const auto set = [&](double v) HWY_ATTR { return hn::Set(f, static_cast<float>(v)); };
    const auto zero = hn::Zero(f), one = set(1), per_blur = hn::Div(one, blur);
    first = std::max(0, static_cast<int>(std::ceil(hn::GetLane(hn::MinOfLanes(f, hn::Sub(middle, reach))))));
    last = std::min(search_steps - 1,
                    static_cast<int>(std::floor(hn::GetLane(hn::MaxOfLanes(f, hn::Add(middle, reach))))));
    ll = lh = hh = count = pp = pb = bb = zero;
    auto right_l = zero, right_h = zero, pl = zero, ph = zero, bl = zero, bh = zero, pv = zero, bv = zero;
    for (int k = first; k <= last; ++k) {
      const size_t row = static_cast<size_t>(k) * most_lanes + from;
      // Beyond six sigmas a step is flat; numbers that are nearly zero would slow the processor down.
      const auto away = hn::Sub(set(k), at), z = hn::Clamp(hn::Mul(away, per_blur), set(-6), set(6));
      const auto step = blurred_steps(f, z);
      const auto bell = hn::Mul(hn::Mul(set(0.3989422804014327), step.fall), per_blur);
      // The third derivative of a blurred step.
      const auto curl = hn::Mul(hn::Mul(hn::Sub(hn::Mul(z, z), one), bell), hn::Mul(per_blur, per_blur));
      const auto value = hn::MulAdd(hn::Load(f, block.skew + row), curl, step.value);
      counts[k] = hn::IfThenElseZero(hn::Le(hn::Abs(hn::Sub(set(k), middle)), reach),
                                     hn::Load(f, block.inside + row));
      high[k] = hn::Mul(counts[k], value);
      const auto lower = hn::Sub(counts[k], high[k]), place = hn::Mul(counts[k], hn::Neg(bell)),
                 wide = hn::Mul(place, away), v = seen(k);
      count = hn::Add(count, counts[k]);
      ll = hn::MulAdd(lower, lower, ll), lh = hn::MulAdd(lower, high[k], lh),
      hh = hn::MulAdd(high[k], high[k], hh);
      pp = hn::MulAdd(place, place, pp), pb = hn::MulAdd(place, wide, pb), bb = hn::MulAdd(wide, wide, bb);
      pl = hn::MulAdd(place, lower, pl), ph = hn::MulAdd(place, high[k], ph);
      bl = hn::MulAdd(wide, lower, bl), bh = hn::MulAdd(wide, high[k], bh);
      right_l = hn::MulAdd(lower, v, right_l), right_h = hn::MulAdd(high[k], v, right_h);
      pv = hn::MulAdd(place, v, pv), bv = hn::MulAdd(wide, v, bv);
    }
    const auto det = hn::Sub(hn::Mul(ll, hh), hn::Mul(lh, lh));
    fails = hn::Or(hn::Lt(count, set(5)), hn::Lt(hn::Abs(det), set(1e-5)));
    per_det = hn::Div(one, hn::IfThenElse(fails, one, det));
    low = hn::Mul(per_det, hn::Sub(hn::Mul(hh, right_l), hn::Mul(lh, right_h)));
    const auto high_level = hn::Mul(per_det, hn::Sub(hn::Mul(ll, right_h), hn::Mul(lh, right_l)));
    rise = hn::Sub(high_level, low);
    fails = hn::Or(fails, hn::Lt(hn::Abs(rise), set(1e-3)));
    // The blur is about what it was.
    const auto per_rise = hn::Div(one, hn::IfThenElse(fails, one, rise));
    bb = hn::MulAdd(set(4), hn::Mul(noise2, hn::Mul(per_rise, per_rise)), bb);
    pp = hn::Sub(pp, eliminated(pl, ph, pl, ph)), bb = hn::Sub(bb, eliminated(bl, bh, bl, bh));
    pb = hn::Sub(pb, eliminated(pl, ph, bl, bh));
    right_p = hn::Sub(pv, hn::MulAdd(low, pl, hn::Mul(high_level, ph)));
    right_b = hn::Sub(bv, hn::MulAdd(low, bl, hn::Mul(high_level, bh)));
  }

  /// Of the place: from the residuals, and no better than the noise allows.
  HWY_INLINE V sigma(V noise2, V per_both) const {
    const Floats f;
    auto squares = hn::Zero(f);
    for (int k = first; k <= last; ++k) {
      const auto off = hn::Sub(hn::Mul(counts[k], hn::Sub(seen(k), low)), hn::Mul(rise, high[k]));
      squares = hn::MulAdd(off, off, squares);
    }
    const auto free = hn::Sub(count, hn::Set(f, 4.0f));
    // Residuals scatter by chance, too: only what is beyond it says that there is more than noise.
    const auto dof = hn::Max(free, hn::Set(f, 1.0f));
    const auto chance = hn::Add(hn::Set(f, 1.0f), hn::Sqrt(hn::Div(hn::Set(f, 2.0f), dof)));
    const auto more = hn::Max(hn::Sub(hn::Div(squares, dof), hn::Mul(noise2, chance)), hn::Zero(f));
    const auto variance = hn::Add(noise2, more);
    return hn::Div(hn::Sqrt(hn::Max(hn::Mul(hn::Mul(bb, per_both), variance), hn::Zero(f))), hn::Abs(rise));
  }
};

size_t fit_block(StepBlock& block, size_t from) {
  const Floats f;
  const auto set = [&](double v) HWY_ATTR { return hn::Set(f, static_cast<float>(v)); };
  const auto zero = hn::Zero(f), one = set(1);
  const auto start = hn::Load(f, block.start + from), reach = hn::Load(f, block.reach + from),
             noise = hn::Load(f, block.noise + from), noise2 = hn::Mul(noise, noise),
             half_least = hn::Mul(set(0.5), hn::Load(f, block.least + from));
  Fits fits(block, from, start, set(usual_blur));
  auto busy = hn::Eq(zero, zero);  // fits that go on
  auto met = hn::IfThenElseZero(busy, one), per_both = zero;
  for (int round = 0; round < most_rounds && !hn::AllFalse(f, busy); ++round) {
    if (round < settled_from) fits.middle = fits.at;
    fits.add_up(reach, noise2);
    const auto both = hn::Sub(hn::Mul(fits.pp, fits.bb), hn::Mul(fits.pb, fits.pb));
    auto fails = hn::Or(fits.fails, hn::Not(hn::Gt(both, set(1e-12))));
    per_both = hn::Div(one, hn::IfThenElse(fails, one, both));
    const auto share = hn::Div(per_both, hn::IfThenElse(fails, one, fits.rise));
    const auto move = hn::Mul(share, hn::Sub(hn::Mul(fits.bb, fits.right_p), hn::Mul(fits.pb, fits.right_b))),
               widen =
                   hn::Mul(share, hn::Sub(hn::Mul(fits.pp, fits.right_b), hn::Mul(fits.pb, fits.right_p)));
    const auto moved = hn::Add(fits.at, hn::Clamp(move, set(-1), one));
    const auto grown = hn::Mul(fits.blur, hn::Exp(f, hn::Clamp(widen, set(-0.3), set(0.3))));
    fails = hn::Or(fails, hn::Not(hn::Le(hn::Abs(hn::Sub(moved, start)), set(step_may_move))));
    if (round >= given_up_from) fails = hn::Or(fails, hn::Lt(hn::Abs(fits.rise), half_least));
    met = hn::IfThenElse(hn::And(busy, fails), zero, met);
    busy = hn::AndNot(fails, busy);
    fits.at = hn::IfThenElse(busy, moved, fits.at);
    fits.blur = hn::IfThenElse(busy, hn::Clamp(grown, set(sharpest), set(softest)), fits.blur);
    // |move| < share * noise * sqrt(bb / both) / |rise|
    const auto in_noise = hn::Mul(hn::Mul(move, fits.rise), hn::Mul(move, fits.rise)),
               rest_in_noise = hn::Mul(hn::Mul(noise2, set(at_rest_in_sigmas * at_rest_in_sigmas)),
                                       hn::Mul(fits.bb, per_both));
    busy = hn::And(busy, hn::And(hn::Ge(hn::Abs(move), set(at_rest)), hn::Ge(in_noise, rest_in_noise)));
  }
  hn::Store(fits.at, f, block.at + from), hn::Store(fits.blur, f, block.blur + from);
  hn::Store(fits.rise, f, block.contrast + from),
      hn::Store(fits.sigma(noise2, per_both), f, block.sigma + from);
  hn::Store(met, f, block.met + from);
  return hn::Lanes(f);
}

void fit_block_kernel(StepBlock& block, size_t count) {
  for (size_t from = 0; from < count;) from += fit_block(block, from);
}

}  // namespace HWY_NAMESPACE
}  // namespace heron
HWY_AFTER_NAMESPACE();

#if HWY_ONCE
#include <Eigen/Cholesky>
#include <algorithm>
#include <cmath>
#include <tuple>

#include "feature/blurred_step.hpp"

namespace heron {
HWY_EXPORT(fit_block_kernel);

namespace {

void fill_column(StepBlock& block, size_t column, const StepSearch& s) {
  const std::vector<double>& profile = *s.profile;
  const int n = static_cast<int>(profile.size()), first = first_step(s.start);
  const double level = profile[static_cast<size_t>(std::clamp(static_cast<int>(s.start), 0, n - 1))];
  for (int row = 0; row < search_steps; ++row) {
    const size_t to = static_cast<size_t>(row) * most_lanes + column;
    int k = first + row;
    if (s.round) k = ((k % n) + n) % n;
    const bool inside = k >= 0 && k < n;
    block.inside[to] = inside ? 1 : 0;
    block.value[to] = inside ? static_cast<float>(profile[static_cast<size_t>(k)] - level) : 0;
    block.skew[to] = inside && s.skew ? (*s.skew)[static_cast<size_t>(k)] : 0;
  }
  block.start[column] = static_cast<float>(s.start - first);
  block.reach[column] = static_cast<float>(s.reach), block.noise[column] = static_cast<float>(s.noise);
  block.least[column] = static_cast<float>(s.least);
}

/// Makes a column that no search fills harmless: there is nothing to be met.
void clear_column(StepBlock& block, size_t column) {
  for (int row = 0; row < search_steps; ++row)
    block.inside[static_cast<size_t>(row) * most_lanes + column] = 0;
  block.start[column] = search_steps / 2, block.reach[column] = 0, block.noise[column] = 1,
  block.least[column] = 0;
}

}  // namespace

std::vector<std::optional<ScanEdge>> fit_steps(std::span<const StepSearch> searches) {
  std::vector<std::optional<ScanEdge>> found(searches.size());
  StepBlock block{};
  for (size_t from = 0; from < searches.size(); from += most_lanes) {
    const size_t count = std::min<size_t>(most_lanes, searches.size() - from);
    for (size_t i = 0; i < most_lanes; ++i)
      i < count ? fill_column(block, i, searches[from + i]) : clear_column(block, i);
    HWY_DYNAMIC_DISPATCH(fit_block_kernel)(block, count);
    for (size_t i = 0; i < count; ++i)
      if (block.met[i] > 0)
        found[from + i] = ScanEdge{first_step(searches[from + i].start) + static_cast<double>(block.at[i]),
                                   block.contrast[i], block.sigma[i], block.blur[i]};
  }
  return found;
}

std::optional<ScanEdge> fit_step_plain(const StepSearch& search) {
  const std::vector<double>& profile = *search.profile;
  const auto [start, reach, noise] = std::tuple{search.start, search.reach, search.noise};
  double at = start, middle = start, blur = usual_blur, low = 0, high = 0;
  const int n = static_cast<int>(profile.size());
  const auto index = [&](int k) { return static_cast<size_t>(search.round ? ((k % n) + n) % n : k); };
  const auto value_at = [&](int k) { return profile[index(k)]; };
  Eigen::Matrix4d normal;
  double squares = 0;
  int count = 0;
  std::vector<BlurredStep> steps;
  steps.reserve(static_cast<size_t>(2 * reach) + 2);
  for (int step = 0; step < most_rounds; ++step) {
    normal.setZero();
    Eigen::Vector4d right = Eigen::Vector4d::Zero();
    squares = 0, count = 0;
    if (step < settled_from) middle = at;
    const int first = static_cast<int>(std::ceil(middle - reach)),
              last = static_cast<int>(std::floor(middle + reach));
    Eigen::Matrix2d light = Eigen::Matrix2d::Zero();
    Eigen::Vector2d light_right = Eigen::Vector2d::Zero();
    const auto step_at = [&](int k) {
      const double z = (k - at) / blur;
      BlurredStep there = blurred_step(z);
      if (search.skew)  // the third derivative of a blurred step
        there.value += (*search.skew)[index(k)] * (z * z - 1) * there.density / (blur * blur * blur);
      return there;
    };
    steps.clear();
    for (int k = first; k <= last; ++k) {
      if (!search.round && (k < 0 || k >= n)) continue;
      steps.push_back(step_at(k));
      const double phi = steps.back().value;
      const Eigen::Vector2d j(1 - phi, phi);
      light += j * j.transpose(), light_right += value_at(k) * j, ++count;
    }
    if (count < 5 || std::abs(light.determinant()) < 1e-6) return std::nullopt;
    const Eigen::Vector2d levels = light.inverse() * light_right;
    low = levels[0], high = levels[1];
    size_t next = 0;
    for (int k = first; k <= last; ++k) {
      if (!search.round && (k < 0 || k >= n)) continue;
      const double z = (k - at) / blur;
      const auto [phi, density] = steps[next++];
      const double bell = density / blur;
      const double residual = value_at(k) - low - (high - low) * phi;
      const Eigen::Vector4d j(-(high - low) * bell, -(high - low) * bell * z * blur, 1 - phi, phi);
      normal += j * j.transpose(), right += residual * j, squares += residual * residual;
    }
    normal(1, 1) += 4 * noise * noise;  // the blur is about what it was
    for (int i = 0; i < 4; ++i) normal(i, i) += 1e-9;
    const Eigen::Vector4d change = normal.ldlt().solve(right);
    if (!change.allFinite()) return std::nullopt;
    at += std::clamp(change[0], -1.0, 1.0);
    blur = std::clamp(blur * std::exp(std::clamp(change[1], -0.3, 0.3)), sharpest, softest);
    if (std::abs(at - start) > step_may_move) return std::nullopt;
    if (step >= given_up_from && std::abs(high - low) < 0.5 * search.least) return std::nullopt;
    const double spread = noise * std::sqrt(std::max(normal.inverse().eval()(0, 0), 0.0));
    if (std::abs(change[0]) < std::max(at_rest, at_rest_in_sigmas * spread)) break;
  }
  const double free = std::max(count - 4, 1), by_noise = noise * noise;
  const double variance = by_noise + std::max(0.0, squares / free - by_noise * (1 + std::sqrt(2 / free)));
  const Eigen::Matrix4d covariance = normal.inverse() * variance;
  return ScanEdge{at, high - low, std::sqrt(std::max(covariance(0, 0), 0.0)), blur};
}

}  // namespace heron
#endif
