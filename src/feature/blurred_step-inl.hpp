// A blurred step at vectors of places; for files that Highway compiles for each instruction set.
#if defined(HERON_BLURRED_STEP_INL) == defined(HWY_TARGET_TOGGLE)
#ifdef HERON_BLURRED_STEP_INL
#undef HERON_BLURRED_STEP_INL
#else
#define HERON_BLURRED_STEP_INL
#endif

#include <hwy/highway.h>

#include "hwy/contrib/math/math-inl.h"

HWY_BEFORE_NAMESPACE();
namespace heron {
namespace HWY_NAMESPACE {

/// A step of height 1 at 0, blurred by a Gaussian of sigma 1, in float.
template <class V>
struct BlurredSteps {
  V value, rest;  ///< rest: 1 less the value
  V fall;         ///< exp(-z^2 / 2)
};

/// By the tail of the normal distribution (Hastings, Approximations for digital computers, 1955: errs by less
/// than 1e-7).
template <class D, class V = hwy::HWY_NAMESPACE::Vec<D>>
HWY_INLINE BlurredSteps<V> blurred_steps(D f, V z) {
  namespace hn = hwy::HWY_NAMESPACE;
  const auto set = [&](double v) HWY_ATTR { return hn::Set(f, static_cast<float>(v)); };
  const auto one = set(1), half = set(0.5), fall = hn::Exp(f, hn::Neg(hn::Mul(half, hn::Mul(z, z))));
  const auto t = hn::Div(one, hn::MulAdd(set(0.3275911 / 1.4142135623730951), hn::Abs(z), one));
  auto tail = hn::MulAdd(set(1.061405429), t, set(-1.453152027));
  tail = hn::MulAdd(tail, t, set(1.421413741)), tail = hn::MulAdd(tail, t, set(-0.284496736));
  tail = hn::MulAdd(tail, t, set(0.254829592));
  tail = hn::Mul(half, hn::Mul(hn::Mul(tail, t), fall));
  const auto beyond = hn::Gt(z, hn::Zero(f));
  return {hn::IfThenElse(beyond, hn::Sub(one, tail), tail), hn::IfThenElse(beyond, tail, hn::Sub(one, tail)),
          fall};
}

}  // namespace HWY_NAMESPACE
}  // namespace heron
HWY_AFTER_NAMESPACE();
#endif
