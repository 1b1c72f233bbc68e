#include "image/row_changes.hpp"

#include <bit>
#include <cstring>

#undef HWY_TARGET_INCLUDE
#define HWY_TARGET_INCLUDE "image/row_changes.cpp"
#include <hwy/foreach_target.h>
#include <hwy/highway.h>

#ifndef HERON_ROW_CHANGES_CONSTANTS
#define HERON_ROW_CHANGES_CONSTANTS
namespace heron {
/// Places written at a time, whether they are there or not, so that no branch needs to be foretold.
inline constexpr int at_once = 8;
}  // namespace heron
#endif

HWY_BEFORE_NAMESPACE();
namespace heron {
namespace HWY_NAMESPACE {
namespace hn = hwy::HWY_NAMESPACE;

void row_words(const uint8_t* row, int width, uint64_t* words) {
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
  for (; x < width; ++x)
    if (row[x]) words[x / 64] |= uint64_t{1} << (x % 64);
}

int row_changes_vector(const uint8_t* row, bool set, RowChanges& changes) {
  row_words(row, changes.width, changes.words.data());
  int* places = changes.places.data();
  int count = 0;
  uint64_t before = 0;  // the highest bit of the word before
  for (size_t w = 0; w < changes.words.size(); ++w) {
    uint64_t bits = set ? changes.words[w] : ~changes.words[w];
    if (!set && w + 1 == changes.words.size()) bits &= (uint64_t{1} << (changes.width % 64)) - 1;
    uint64_t here = bits ^ (bits << 1 | before);
    before = bits >> 63;
    const int end = count + std::popcount(here), at = static_cast<int>(64 * w);
    do {
#pragma GCC unroll 8
      for (int k = 0; k < at_once; ++k, here &= here - 1) places[count + k] = at + std::countr_zero(here);
      count += at_once;
    } while (count < end);
    count = end;
  }
  return count;
}

}  // namespace HWY_NAMESPACE
}  // namespace heron
HWY_AFTER_NAMESPACE();

#if HWY_ONCE
namespace heron {
HWY_EXPORT(row_changes_vector);

RowChanges::RowChanges(int row_width)
    : width(row_width),
      words(static_cast<size_t>(row_width / 64 + 1)),
      places(static_cast<size_t>(row_width + 1 + 2 * at_once)) {}

int row_changes(const uint8_t* row, bool set, RowChanges& changes) {
  return HWY_DYNAMIC_DISPATCH(row_changes_vector)(row, set, changes);
}

int row_changes_plain(const uint8_t* row, bool set, RowChanges& changes) {
  int count = 0;
  bool inside = false;
  for (int x = 0; x <= changes.width; ++x) {
    const bool here = x < changes.width && (row[x] != 0) == set;
    if (here != inside) changes.places[static_cast<size_t>(count++)] = x;
    inside = here;
  }
  return count;
}

}  // namespace heron
#endif
