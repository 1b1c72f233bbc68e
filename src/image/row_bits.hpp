#pragma once
#include <cstdint>

namespace heron {

/// Bit x of `words` (its lowest first) says whether byte x of the row is not zero. `words` has room for
/// width / 64 + 1; what lies past the row is 0.
void row_bits(const uint8_t* row, int width, uint64_t* words);

/// The same without vectors.
void row_bits_plain(const uint8_t* row, int first, int width, uint64_t* words);

}  // namespace heron
