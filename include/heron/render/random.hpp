#pragma once
#include <array>
#include <cstdint>

namespace heron::render {

/// Random numbers that are the same everywhere: xoshiro256** (Blackman, Vigna, 2018), seeded by splitmix64.
class Random {
 public:
  explicit Random(uint64_t seed);
  uint64_t bits();
  double uniform(double min = 0, double max = 1);
  int whole(int min, int max);  ///< both ends included
  double normal();              ///< mean 0, sigma 1

 private:
  std::array<uint64_t, 4> state_;
  double spare_ = 0;
  bool has_spare_ = false;
};

}  // namespace heron::render
