#include "heron/render/random.hpp"

#include <bit>
#include <cmath>
#include <numbers>

namespace heron::render {

Random::Random(uint64_t seed) : state_{} {
  for (uint64_t& s : state_) {
    uint64_t z = (seed += 0x9e3779b97f4a7c15ULL);
    z = (z ^ (z >> 30)) * 0xbf58476d1ce4e5b9ULL;
    z = (z ^ (z >> 27)) * 0x94d049bb133111ebULL;
    s = z ^ (z >> 31);
  }
}

uint64_t Random::bits() {
  const uint64_t result = std::rotl(state_[1] * 5, 7) * 9, t = state_[1] << 17;
  state_[2] ^= state_[0], state_[3] ^= state_[1], state_[1] ^= state_[2], state_[0] ^= state_[3];
  state_[2] ^= t;
  state_[3] = std::rotl(state_[3], 45);
  return result;
}

double Random::uniform(double min, double max) {
  return min + (max - min) * (static_cast<double>(bits() >> 11) * 0x1.0p-53);
}

int Random::whole(int min, int max) {
  return min + static_cast<int>(bits() % static_cast<uint64_t>(max - min + 1));
}

double Random::normal() {
  if (has_spare_) {
    has_spare_ = false;
    return spare_;
  }
  const double r = std::sqrt(-2 * std::log(1 - uniform())), a = 2 * std::numbers::pi * uniform();
  spare_ = r * std::sin(a);
  has_spare_ = true;
  return r * std::cos(a);
}

}  // namespace heron::render
