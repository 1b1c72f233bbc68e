#pragma once
#include <fmt/format.h>

#include "heron/locate/limits.hpp"
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

/// Judges what a kind has found, best first, by the limits that every kind shares: least score, search region
/// (a kind that has none passes limits without) and count. It becomes a sighting, or a miss with those limits
/// and the ones that its kind `missed`.
inline void take(Findings& findings, Sighting found, const FindLimits& limits,
                 std::vector<LimitMissed> missed = {}) {
  if (found.score < limits.least_score) missed.push_back(too_low("score", found.score, limits.least_score));
  if (!limits.region.empty() && !limits.region.contains({found.x, found.y}))
    missed.push_back(not_in_region());
  if (missed.empty() && static_cast<int>(findings.sightings.size()) >= limits.count)
    missed.push_back(too_many(findings.sightings.size(), limits.count));
  if (missed.empty())
    findings.sightings.push_back(std::move(found));
  else
    findings.misses.push_back(turned_away(found, std::move(missed)));
}

/// The nearest come first; the others are dropped.
inline void keep_nearest(Findings& findings) {
  if (findings.misses.size() > most_misses) findings.misses.resize(most_misses);
}

}  // namespace heron
