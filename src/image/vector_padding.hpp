#pragma once
#include <cstddef>

namespace heron {

/// Bytes of the widest vector of any processor (2048 bits). `HWY_MAX_BYTES` is that of one target, outside
/// the kernels not of the one that runs.
inline constexpr size_t widest_vector = 256;

/// Places that columns of floats or whole numbers must hold beyond their count, so that kernels may read and
/// write whole vectors.
inline constexpr size_t vector_padding = widest_vector / 4;

}  // namespace heron
