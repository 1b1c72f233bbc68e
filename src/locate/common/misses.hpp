#pragma once
#include <fmt/format.h>

#include "heron/locate/detection.hpp"
#include "heron/locate/find_options.hpp"
#include "heron/locate/names.hpp"

namespace heron {

inline constexpr size_t max_misses = 8;

/// The reason for a value that a limit rejects.
inline MissReason too_low(const char* name, double value, double least, double sigma = 0) {
  return {name, value, fmt::format("at least {:g}", least), sigma};
}
inline MissReason too_high(const char* name, double value, double most, double sigma = 0) {
  return {name, value, fmt::format("at most {:g}", most), sigma};
}
inline MissReason not_in_region() { return {limit::region, 0, "inside the search region"}; }
inline MissReason too_many(size_t taken, int count) {
  return {limit::count, static_cast<double>(taken + 1), fmt::format("at most {}", count)};
}

/// What would have been a detection, but for those limits.
inline Miss turned_away(const Detection& s, std::vector<MissReason> options) {
  return {s.x, s.y, s.angle, s.scale, s.score, std::move(options), s.has_angle};
}

/// Judges what a kind has found, best first, by the limits that every kind shares: minimum score, search
/// region (a kind that has none passes limits without) and count. It becomes a detection, or a miss with
/// those limits and the ones that its kind `missed`.
inline void take(FindResult& result, Detection found, const FindOptions& options,
                 std::vector<MissReason> missed = {}) {
  if (found.score < options.min_score)
    missed.push_back(too_low(limit::score, found.score, options.min_score));
  if (!options.region.empty() && !options.region.contains({found.x, found.y}))
    missed.push_back(not_in_region());
  if (missed.empty() && static_cast<int>(result.detections.size()) >= options.max_count)
    missed.push_back(too_many(result.detections.size(), options.max_count));
  if (missed.empty())
    result.detections.push_back(std::move(found));
  else
    result.misses.push_back(turned_away(found, std::move(missed)));
}

/// The nearest come first; the others are dropped.
inline void keep_nearest(FindResult& result) {
  if (result.misses.size() > max_misses) result.misses.resize(max_misses);
}

}  // namespace heron
