// The 3 x 3 gradient (Sobel's weights 1, 2, 1) of a row, once plain and once as vectors; included anew for
// every processor that a kernel is compiled for.
#ifndef HERON_SOBEL_PLAIN
#define HERON_SOBEL_PLAIN
#include <cstdint>
namespace heron {
struct SobelPlain {
  float x, y;
};
inline SobelPlain sobel_plain(const uint8_t* up, const uint8_t* mid, const uint8_t* down, int x) {
  return {
      static_cast<float>(up[x + 1] + 2 * mid[x + 1] + down[x + 1] - up[x - 1] - 2 * mid[x - 1] - down[x - 1]),
      static_cast<float>(down[x - 1] + 2 * down[x] + down[x + 1] - up[x - 1] - 2 * up[x] - up[x + 1])};
}
}  // namespace heron
#endif

#if defined(HERON_SOBEL_VECTORS) == defined(HWY_TARGET_TOGGLE)
#ifdef HERON_SOBEL_VECTORS
#undef HERON_SOBEL_VECTORS
#else
#define HERON_SOBEL_VECTORS
#endif

#include <hwy/highway.h>

HWY_BEFORE_NAMESPACE();
namespace heron {
namespace HWY_NAMESPACE {

/// Sets the gradient of as many pixels from `x` on as a vector holds; the pixels before and behind are read
/// too.
template <class Floats, class V>
HWY_INLINE void sobel(Floats f, const uint8_t* up, const uint8_t* mid, const uint8_t* down, int x, V& gx,
                      V& gy) {
  namespace hn = hwy::HWY_NAMESPACE;
  const hn::RebindToSigned<Floats> whole;
  const hn::Rebind<uint8_t, Floats> bytes;
  const auto load = [&](const uint8_t* p) HWY_ATTR { return hn::PromoteTo(whole, hn::LoadU(bytes, p)); };
  const auto ul = load(up + x - 1), uc = load(up + x), ur = load(up + x + 1);
  const auto ml = load(mid + x - 1), mr = load(mid + x + 1);
  const auto dl = load(down + x - 1), dc = load(down + x), dr = load(down + x + 1);
  gx = hn::ConvertTo(
      f, hn::Sub(hn::Add(hn::Add(ur, dr), hn::Add(mr, mr)), hn::Add(hn::Add(ul, dl), hn::Add(ml, ml))));
  gy = hn::ConvertTo(
      f, hn::Sub(hn::Add(hn::Add(dl, dr), hn::Add(dc, dc)), hn::Add(hn::Add(ul, ur), hn::Add(uc, uc))));
}

}  // namespace HWY_NAMESPACE
}  // namespace heron
HWY_AFTER_NAMESPACE();
#endif
