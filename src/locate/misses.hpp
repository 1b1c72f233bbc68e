#pragma once
#include <fmt/format.h>

#include "heron/locate/sighting.hpp"

namespace heron {

inline constexpr size_t most_misses = 8;

/// What a limit says of a value that it turned away.
inline LimitMissed too_low(const char* name, double value, double least, double sigma = 0) {
  return {name, value, fmt::format("at least {:g}", least), sigma};
}
inline LimitMissed too_high(const char* name, double value, double most, double sigma = 0) {
  return {name, value, fmt::format("at most {:g}", most), sigma};
}
inline LimitMissed not_in_region() { return {"region", 0, "inside the search region"}; }
inline LimitMissed too_many(size_t taken, int count) {
  return {"count", static_cast<double>(taken + 1), fmt::format("at most {}", count)};
}

/// What would have been a sighting, but for those limits.
inline Miss turned_away(const Sighting& s, std::vector<LimitMissed> limits) {
  return {s.x, s.y, s.angle, s.scale, s.score, std::move(limits), s.has_angle};
}

/// The nearest come first; the others are dropped.
inline void keep_nearest(Findings& findings) {
  if (findings.misses.size() > most_misses) findings.misses.resize(most_misses);
}

}  // namespace heron
