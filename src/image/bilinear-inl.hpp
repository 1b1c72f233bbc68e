// Bilinear brightness at vectors of places; for files that Highway compiles for each instruction set.
#if defined(HERON_BILINEAR_INL) == defined(HWY_TARGET_TOGGLE)
#ifdef HERON_BILINEAR_INL
#undef HERON_BILINEAR_INL
#else
#define HERON_BILINEAR_INL
#endif

#include <hwy/highway.h>

#include "heron/image/image.hpp"

HWY_BEFORE_NAMESPACE();
namespace heron {
namespace HWY_NAMESPACE {

/// Bilinear brightness at places given from a whole pixel `origin`; rows end in readable bytes.
struct Bilinear {
  const Image<uint8_t>& picture;
  int origin_x, origin_y;

  template <class V>
  HWY_INLINE V operator()(V x, V y) const {
    namespace hn = hwy::HWY_NAMESPACE;
    const hn::DFromV<V> f;
    const hn::RebindToSigned<decltype(f)> whole;
    const auto x0 = hn::Floor(x), y0 = hn::Floor(y);
    const auto fx = hn::Sub(x, x0), fy = hn::Sub(y, y0);
    const int stride = static_cast<int>(picture.stride());
    const auto column = hn::Add(hn::ConvertTo(whole, x0), hn::Set(whole, origin_x));
    const auto row = hn::Add(hn::ConvertTo(whole, y0), hn::Set(whole, origin_y));
    const auto at = hn::Add(hn::Mul(row, hn::Set(whole, stride)), column);
    const auto* base = reinterpret_cast<const int32_t*>(picture.row(0));
    const auto upper = hn::GatherOffset(whole, base, at);
    const auto lower = hn::GatherOffset(whole, base, hn::Add(at, hn::Set(whole, stride)));
    const auto byte = hn::Set(whole, 255);
    const auto first = [&](auto v) HWY_ATTR { return hn::ConvertTo(f, hn::And(v, byte)); };
    const auto second = [&](auto v)
                            HWY_ATTR { return hn::ConvertTo(f, hn::And(hn::ShiftRight<8>(v), byte)); };
    const auto a0 = first(upper), b0 = first(lower);
    const auto top = hn::MulAdd(fx, hn::Sub(second(upper), a0), a0);
    const auto bottom = hn::MulAdd(fx, hn::Sub(second(lower), b0), b0);
    return hn::MulAdd(fy, hn::Sub(bottom, top), top);
  }
};

}  // namespace HWY_NAMESPACE
}  // namespace heron
HWY_AFTER_NAMESPACE();
#endif
