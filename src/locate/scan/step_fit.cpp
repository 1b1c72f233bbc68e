#include "locate/scan/step_fit.hpp"

#undef HWY_TARGET_INCLUDE
#define HWY_TARGET_INCLUDE "locate/scan/step_fit.cpp"
#include <hwy/foreach_target.h>
#include <hwy/highway.h>

#include "hwy/contrib/math/math-inl.h"

#ifndef HERON_STEP_FIT_BLOCK
#define HERON_STEP_FIT_BLOCK
namespace heron {

constexpr int most_steps = 20;  // that a search looks at: 2 (6 + 3) + 1, and one to spare
constexpr int most_lanes = 16;  // searches side by side
constexpr double usual_blur = 0.95, sharpest = 0.5, softest = 3;
constexpr int most_rounds = 12;
constexpr double at_rest = 1e-4;  // steps; a fit that moves by less is done

/// Searches side by side: row by row, a column each.
struct StepBlock {
  alignas(64) float value[most_steps * most_lanes];   ///< of the profile, less `level`
  alignas(64) float inside[most_steps * most_lanes];  ///< 1, or 0 beyond the profile's ends
  alignas(64) float skew[most_steps * most_lanes];
  alignas(64) float start[most_lanes], reach[most_lanes], noise[most_lanes];  ///< `start` from the first row
  alignas(64) float at[most_lanes], blur[most_lanes], contrast[most_lanes], sigma[most_lanes];  ///< results
  alignas(64) float met[most_lanes];  ///< 1: there is a step
  int rows = 0;
};

}  // namespace heron
#endif

HWY_BEFORE_NAMESPACE();
namespace heron {
namespace HWY_NAMESPACE {
namespace hn = hwy::HWY_NAMESPACE;

using Floats = hn::CappedTag<float, most_lanes>;
using V = hn::Vec<Floats>;

/// A step of height 1 blurred by a Gaussian of sigma 1, and its slope (Hastings, Approximations for digital
/// computers, 1955: errs by less than 1e-7).
HWY_INLINE void blurred_steps(V z, V& value, V& density) {
  const Floats f;
  const auto set = [&](double v) HWY_ATTR { return hn::Set(f, static_cast<float>(v)); };
  const auto one = set(1), fall = hn::Exp(f, hn::Mul(set(-0.5), hn::Mul(z, z)));
  const auto t = hn::Div(one, hn::MulAdd(set(0.3275911 / 1.4142135623730951), hn::Abs(z), one));
  auto tail = hn::MulAdd(set(1.061405429), t, set(-1.453152027));
  tail = hn::MulAdd(tail, t, set(1.421413741)), tail = hn::MulAdd(tail, t, set(-0.284496736));
  tail = hn::MulAdd(tail, t, set(0.254829592));
  tail = hn::Mul(set(0.5), hn::Mul(hn::Mul(tail, t), fall));
  value = hn::IfThenElse(hn::Gt(z, hn::Zero(f)), hn::Sub(one, tail), tail);
  density = hn::Mul(set(0.3989422804014327), fall);
}

size_t fit_block(StepBlock& block, size_t from) {
  const Floats f;
  const auto set = [&](double v) HWY_ATTR { return hn::Set(f, static_cast<float>(v)); };
  const auto zero = hn::Zero(f), one = set(1);
  const auto start = hn::Load(f, block.start + from), reach = hn::Load(f, block.reach + from),
             noise = hn::Load(f, block.noise + from), noise2 = hn::Mul(noise, noise);
  auto at = start, blur = set(usual_blur), contrast = zero, sigma = zero;
  auto busy = hn::Eq(zero, zero);  // fits that go on
  auto met = hn::IfThenElseZero(busy, one);
  V values[most_steps], bells[most_steps];
  for (int round = 0; round < most_rounds && !hn::AllFalse(f, busy); ++round) {
    const auto per_blur = hn::Div(one, blur);
    // The levels of both sides by least squares: they are what the rest is eliminated against.
    auto ll = zero, lh = zero, hh = zero, right_l = zero, right_h = zero, count = zero;
    for (int k = 0; k < block.rows; ++k) {
      const size_t row = static_cast<size_t>(k) * most_lanes + from;
      const auto away = hn::Sub(set(k), at), z = hn::Mul(away, per_blur);
      V value, density;
      blurred_steps(z, value, density);
      const auto bell = hn::Mul(density, per_blur);
      // The third derivative of a blurred step.
      const auto curl = hn::Mul(hn::Mul(hn::Sub(hn::Mul(z, z), one), bell), hn::Mul(per_blur, per_blur));
      value = hn::MulAdd(hn::Load(f, block.skew + row), curl, value);
      values[k] = value, bells[k] = bell;
      const auto counts = hn::IfThenElseZero(hn::Le(hn::Abs(away), reach), hn::Load(f, block.inside + row));
      const auto high = hn::Mul(counts, value), low = hn::Sub(counts, high),
                 seen = hn::Load(f, block.value + row);
      ll = hn::MulAdd(low, low, ll), lh = hn::MulAdd(low, high, lh), hh = hn::MulAdd(high, high, hh);
      right_l = hn::MulAdd(low, seen, right_l), right_h = hn::MulAdd(high, seen, right_h);
      count = hn::Add(count, counts);
    }
    const auto det = hn::Sub(hn::Mul(ll, hh), hn::Mul(lh, lh));
    auto fails = hn::Or(hn::Lt(count, set(5)), hn::Lt(hn::Abs(det), set(1e-5)));
    const auto per_det = hn::Div(one, hn::IfThenElse(fails, one, det));
    const auto low = hn::Mul(per_det, hn::Sub(hn::Mul(hh, right_l), hn::Mul(lh, right_h)));
    const auto rise = hn::Sub(hn::Mul(per_det, hn::Sub(hn::Mul(ll, right_h), hn::Mul(lh, right_l))), low);
    fails = hn::Or(fails, hn::Lt(hn::Abs(rise), set(1e-3)));
    // Place and blur, in units of the step's height.
    auto pp = zero, pb = zero, bb = zero, pl = zero, ph = zero, bl = zero, bh = zero, right_p = zero,
         right_b = zero, squares = zero;
    for (int k = 0; k < block.rows; ++k) {
      const size_t row = static_cast<size_t>(k) * most_lanes + from;
      const auto away = hn::Sub(set(k), at);
      const auto counts = hn::IfThenElseZero(hn::Le(hn::Abs(away), reach), hn::Load(f, block.inside + row));
      const auto place = hn::Neg(hn::Mul(counts, bells[k])), wide = hn::Mul(place, away);
      const auto high = values[k], lower = hn::Sub(one, high);
      const auto off =
          hn::Mul(counts, hn::Sub(hn::Sub(hn::Load(f, block.value + row), low), hn::Mul(rise, high)));
      pp = hn::MulAdd(place, place, pp), pb = hn::MulAdd(place, wide, pb), bb = hn::MulAdd(wide, wide, bb);
      pl = hn::MulAdd(place, lower, pl), ph = hn::MulAdd(place, high, ph);
      bl = hn::MulAdd(wide, lower, bl), bh = hn::MulAdd(wide, high, bh);
      right_p = hn::MulAdd(place, off, right_p), right_b = hn::MulAdd(wide, off, right_b);
      squares = hn::MulAdd(off, off, squares);
    }
    const auto per_rise = hn::Div(one, hn::IfThenElse(fails, one, rise));
    // The blur is about what it was.
    bb = hn::MulAdd(set(4), hn::Mul(noise2, hn::Mul(per_rise, per_rise)), bb);
    const auto eliminated = [&](V al, V ah, V cl, V ch) HWY_ATTR {
      const auto to_l = hn::Mul(per_det, hn::Sub(hn::Mul(hh, cl), hn::Mul(lh, ch))),
                 to_h = hn::Mul(per_det, hn::Sub(hn::Mul(ll, ch), hn::Mul(lh, cl)));
      return hn::MulAdd(al, to_l, hn::Mul(ah, to_h));
    };
    pp = hn::Sub(pp, eliminated(pl, ph, pl, ph)), bb = hn::Sub(bb, eliminated(bl, bh, bl, bh));
    pb = hn::Sub(pb, eliminated(pl, ph, bl, bh));
    const auto both = hn::Sub(hn::Mul(pp, bb), hn::Mul(pb, pb));
    fails = hn::Or(fails, hn::Not(hn::Gt(both, set(1e-12))));
    const auto per_both = hn::Div(per_rise, hn::IfThenElse(fails, one, both));
    const auto move = hn::Mul(per_both, hn::Sub(hn::Mul(bb, right_p), hn::Mul(pb, right_b))),
               widen = hn::Mul(per_both, hn::Sub(hn::Mul(pp, right_b), hn::Mul(pb, right_p)));
    const auto spread = hn::Div(squares, hn::Max(hn::Sub(count, set(4)), one));
    const auto variance = hn::Max(hn::IfThenElseZero(hn::Gt(count, set(4)), spread), noise2);
    const auto here = hn::Mul(
        hn::Abs(per_rise), hn::Sqrt(hn::Max(hn::Mul(hn::Mul(hn::Mul(bb, variance), per_both), rise), zero)));
    const auto moved = hn::Add(at, hn::Clamp(move, set(-1), one));
    const auto grow = hn::Exp(f, hn::Clamp(widen, set(-0.3), set(0.3)));
    fails = hn::Or(fails, hn::Not(hn::Le(hn::Abs(hn::Sub(moved, start)), set(step_may_move))));
    met = hn::IfThenElse(hn::And(busy, fails), zero, met);
    at = hn::IfThenElse(busy, moved, at), contrast = hn::IfThenElse(busy, rise, contrast);
    blur = hn::IfThenElse(busy, hn::Clamp(hn::Mul(blur, grow), set(sharpest), set(softest)), blur);
    sigma = hn::IfThenElse(busy, here, sigma);
    busy = hn::And(busy, hn::AndNot(fails, hn::Ge(hn::Abs(move), set(at_rest))));
  }
  hn::Store(at, f, block.at + from), hn::Store(blur, f, block.blur + from);
  hn::Store(contrast, f, block.contrast + from), hn::Store(sigma, f, block.sigma + from);
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
  const int n = static_cast<int>(profile.size()), first = first_step(s), count = step_count(s);
  const double level = profile[static_cast<size_t>(std::clamp(static_cast<int>(s.start), 0, n - 1))];
  for (int row = 0; row < block.rows; ++row) {
    const size_t to = static_cast<size_t>(row) * most_lanes + column;
    int k = first + row;
    if (s.round) k = ((k % n) + n) % n;
    const bool inside = row < count && k >= 0 && k < n;
    block.inside[to] = inside ? 1 : 0;
    block.value[to] = inside ? static_cast<float>(profile[static_cast<size_t>(k)] - level) : 0;
    block.skew[to] = inside && s.skew ? (*s.skew)[static_cast<size_t>(row)] : 0;
  }
  block.start[column] = static_cast<float>(s.start - first);
  block.reach[column] = static_cast<float>(s.reach), block.noise[column] = static_cast<float>(s.noise);
}

/// Makes a column that no search fills harmless: there is nothing to be met.
void clear_column(StepBlock& block, size_t column) {
  for (int row = 0; row < block.rows; ++row) block.inside[static_cast<size_t>(row) * most_lanes + column] = 0;
  block.start[column] = 0, block.reach[column] = 0, block.noise[column] = 1;
}

}  // namespace

std::vector<std::optional<ScanEdge>> fit_steps(std::span<const StepSearch> searches) {
  std::vector<std::optional<ScanEdge>> found(searches.size());
  StepBlock block{};
  for (size_t from = 0; from < searches.size(); from += most_lanes) {
    const size_t count = std::min<size_t>(most_lanes, searches.size() - from);
    block.rows = 0;
    for (const StepSearch& s : searches.subspan(from, count))
      block.rows = std::max(block.rows, step_count(s));
    for (size_t i = 0; i < most_lanes; ++i)
      i < count ? fill_column(block, i, searches[from + i]) : clear_column(block, i);
    HWY_DYNAMIC_DISPATCH(fit_block_kernel)(block, count);
    for (size_t i = 0; i < count; ++i)
      if (block.met[i] > 0)
        found[from + i] = ScanEdge{first_step(searches[from + i]) + static_cast<double>(block.at[i]),
                                   block.contrast[i], block.sigma[i], block.blur[i]};
  }
  return found;
}

std::optional<ScanEdge> fit_step_plain(const StepSearch& search) {
  const std::vector<double>& profile = *search.profile;
  const auto [start, reach, noise] = std::tuple{search.start, search.reach, search.noise};
  double at = start, blur = usual_blur, low = 0, high = 0;
  const int n = static_cast<int>(profile.size());
  const auto value_at = [&](int k) {
    return profile[static_cast<size_t>(search.round ? ((k % n) + n) % n : k)];
  };
  Eigen::Matrix4d normal;
  double squares = 0;
  int count = 0;
  std::vector<BlurredStep> steps;
  steps.reserve(static_cast<size_t>(2 * reach) + 2);
  for (int step = 0; step < most_rounds; ++step) {
    normal.setZero();
    Eigen::Vector4d right = Eigen::Vector4d::Zero();
    squares = 0, count = 0;
    const int first = static_cast<int>(std::ceil(at - reach)),
              last = static_cast<int>(std::floor(at + reach));
    Eigen::Matrix2d light = Eigen::Matrix2d::Zero();
    Eigen::Vector2d light_right = Eigen::Vector2d::Zero();
    const auto step_at = [&](int k) {
      const double z = (k - at) / blur;
      BlurredStep there = blurred_step(z);
      if (search.skew)  // the third derivative of a blurred step
        there.value += (*search.skew)[static_cast<size_t>(k - first_step(search))] * (z * z - 1) *
                       there.density / (blur * blur * blur);
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
    if (std::abs(change[0]) < at_rest) break;
  }
  const double variance = std::max(count > 4 ? squares / (count - 4) : 0, noise * noise);
  const Eigen::Matrix4d covariance = normal.inverse() * variance;
  return ScanEdge{at, high - low, std::sqrt(std::max(covariance(0, 0), 0.0)), blur};
}

}  // namespace heron
#endif
