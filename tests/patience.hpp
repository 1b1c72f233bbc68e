#pragma once
#include <chrono>

/// The longest wait for what must come. It ends as soon as that is there, so it is long: a busy machine
/// stands still for seconds.
inline constexpr std::chrono::milliseconds patience{20000};

/// Whether `measured()`, a time, is below the bound in one of five tries. A busy machine makes a wait longer
/// and never shorter; a wait that is too long by itself is so each time.
template <class Measured>
bool within(std::chrono::nanoseconds bound, const Measured& measured) {
  for (int k = 0; k < 5; ++k)
    if (measured() < bound) return true;
  return false;
}
