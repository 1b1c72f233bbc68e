// Bilinear brightness at vectors of places; for files that Highway compiles for each instruction set.
#if defined(HERON_BILINEAR_INL) == defined(HWY_TARGET_TOGGLE)
#ifdef HERON_BILINEAR_INL
#undef HERON_BILINEAR_INL
#else
#define HERON_BILINEAR_INL
#endif

#include <hwy/highway.h>

#include <cstring>

#include "heron/image/image.hpp"

HWY_BEFORE_NAMESPACE();
namespace heron {
namespace HWY_NAMESPACE {

/// Bilinear brightness at places given from a whole pixel `origin`; rows end in readable bytes. In three
/// steps for many places at a time, since what is read one by one takes a while until it can be had as a
/// vector; gathering by the processor's own means takes longer.
struct Bilinear {
  using Floats = hwy::HWY_NAMESPACE::ScalableTag<float>;
  using V = hwy::HWY_NAMESPACE::Vec<Floats>;
  const Image<uint8_t>& picture;
  int origin_x, origin_y;

  /// How far between its four neighbours each place lies.
  struct Between {
    V x, y;
  };

  /// Where the four neighbours of a vector of places lie, to `pixels`. Whole numbers are told by adding one
  /// so large that the rest is rounded off: its last bits then are the number, which converting takes longer
  /// to say. A place on a pixel an odd number from the origin is told as the end of the one before: to read
  /// up to a picture's first pixel, the origin must be even.
  HWY_INLINE Between find(V x, V y, int32_t* pixels) const {
    namespace hn = hwy::HWY_NAMESPACE;
    const Floats f;
    const hn::RebindToSigned<Floats> whole;
    const auto half = hn::Set(f, 0.5f), large = hn::Set(f, 12582912.0f);
    const auto px = hn::Sub(x, half), py = hn::Sub(y, half);
    const auto tx = hn::Add(px, large), ty = hn::Add(py, large);
    const auto stride = static_cast<uint32_t>(picture.stride());
    const uint32_t bits_of_large = 0x4B400000, from = static_cast<uint32_t>(origin_y) * stride +
                                                      static_cast<uint32_t>(origin_x) -
                                                      bits_of_large * (stride + 1);
    hn::StoreU(hn::Add(hn::Add(hn::Mul(hn::BitCast(whole, ty), hn::Set(whole, static_cast<int>(stride))),
                               hn::BitCast(whole, tx)),
                       hn::Set(whole, static_cast<int>(from))),
               whole, pixels);
    return {hn::Add(hn::Sub(px, hn::Sub(tx, large)), half), hn::Add(hn::Sub(py, hn::Sub(ty, large)), half)};
  }

  /// Puts the four neighbours themselves there, a byte each.
  HWY_INLINE void read(int32_t* pixels, size_t count) const {
    const uint8_t *upper = picture.row(0), *lower = upper + picture.stride();
#pragma GCC unroll 8
    for (size_t i = 0; i < count; ++i) {
      uint16_t two, two_below;
      std::memcpy(&two, upper + pixels[i], 2);
      std::memcpy(&two_below, lower + pixels[i], 2);
      pixels[i] = static_cast<int32_t>(two | static_cast<uint32_t>(two_below) << 16);
    }
  }

  HWY_INLINE V mix(const int32_t* pixels, const Between& between) const {
    namespace hn = hwy::HWY_NAMESPACE;
    const Floats f;
    const hn::RebindToSigned<Floats> whole;
    const auto four = hn::LoadU(whole, pixels), byte = hn::Set(whole, 255);
    const auto left = hn::ConvertTo(f, hn::And(four, byte)),
               right = hn::ConvertTo(f, hn::And(hn::ShiftRight<8>(four), byte)),
               left_below = hn::ConvertTo(f, hn::And(hn::ShiftRight<16>(four), byte)),
               right_below = hn::ConvertTo(f, hn::And(hn::ShiftRight<24>(four), byte));
    const auto top = hn::MulAdd(between.x, hn::Sub(right, left), left),
               bottom = hn::MulAdd(between.x, hn::Sub(right_below, left_below), left_below);
    return hn::MulAdd(between.y, hn::Sub(bottom, top), top);
  }

  HWY_INLINE V operator()(V x, V y) const {
    int32_t pixels[HWY_MAX_BYTES / sizeof(int32_t)];
    const Between between = find(x, y, pixels);
    read(pixels, hwy::HWY_NAMESPACE::Lanes(Floats()));
    return mix(pixels, between);
  }
};

}  // namespace HWY_NAMESPACE
}  // namespace heron
HWY_AFTER_NAMESPACE();
#endif
