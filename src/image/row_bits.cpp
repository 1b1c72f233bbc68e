#include "row_bits.hpp"

#include <cstring>

#undef HWY_TARGET_INCLUDE
#define HWY_TARGET_INCLUDE "image/row_bits.cpp"
#include <hwy/foreach_target.h>
#include <hwy/highway.h>

HWY_BEFORE_NAMESPACE();
namespace heron {
namespace HWY_NAMESPACE {
namespace hn = hwy::HWY_NAMESPACE;

void row_bits_vector(const uint8_t* row, int width, uint64_t* words) {
  std::memset(words, 0, static_cast<size_t>(width / 64 + 1) * 8);
  int x = 0;
#if HWY_TARGET != HWY_SCALAR && defined(__BYTE_ORDER__) && __BYTE_ORDER__ == __ORDER_LITTLE_ENDIAN__
  const hn::ScalableTag<uint8_t> bytes;
  const int lanes = static_cast<int>(hn::Lanes(bytes));
  const auto zero = hn::Zero(bytes);
  auto* out = reinterpret_cast<uint8_t*>(words);
  for (; lanes >= 8 && x + lanes <= width; x += lanes)
    hn::StoreMaskBits(bytes, hn::Ne(hn::LoadU(bytes, row + x), zero), out + x / 8);
#endif
  row_bits_plain(row, x, width, words);
}

}  // namespace HWY_NAMESPACE
}  // namespace heron
HWY_AFTER_NAMESPACE();

#if HWY_ONCE
namespace heron {
HWY_EXPORT(row_bits_vector);

void row_bits(const uint8_t* row, int width, uint64_t* words) {
  HWY_DYNAMIC_DISPATCH(row_bits_vector)(row, width, words);
}

void row_bits_plain(const uint8_t* row, int first, int width, uint64_t* words) {
  for (int x = first; x < width; ++x)
    if (row[x]) words[x / 64] |= uint64_t{1} << (x % 64);
}

}  // namespace heron
#endif
