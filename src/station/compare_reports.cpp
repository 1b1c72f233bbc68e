#include "heron/station/compare_reports.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>

namespace heron {
namespace {

constexpr double same_px = 0.5, same_degrees = 0.5;
constexpr double same_part_px = 20;  // further away it is another part

Point2 place_of(const ReportedPart& part) { return {part.detection.x, part.detection.y}; }

std::string name_of(const ReportedPart& part) {
  return fmt::format("{} at {:.1f},{:.1f}", part.detection.target, part.detection.x, part.detection.y);
}

const char* word_or_none(const std::optional<Verdict>& verdict) {
  return verdict ? word_of(*verdict) : "none";
}

/// For each part of `then` the index of its part of `now`: the nearest pairs first, each part once.
std::vector<std::optional<size_t>> matched(const Report& then, const Report& now) {
  struct Pair {
    double apart;
    size_t then, now;
  };
  std::vector<Pair> pairs;
  for (size_t i = 0; i < then.parts.size(); ++i)
    for (size_t k = 0; k < now.parts.size(); ++k) {
      const double apart = distance(place_of(then.parts[i]), place_of(now.parts[k]));
      if (then.parts[i].detection.target == now.parts[k].detection.target && apart <= same_part_px)
        pairs.push_back({apart, i, k});
    }
  std::sort(pairs.begin(), pairs.end(), [](const Pair& a, const Pair& b) { return a.apart < b.apart; });
  std::vector<std::optional<size_t>> match(then.parts.size());
  std::vector<bool> used(now.parts.size());
  for (const Pair& p : pairs)
    if (!match[p.then] && !used[p.now]) match[p.then] = p.now, used[p.now] = true;
  return match;
}

/// The limits that turned it away, where it is among the nearest misses.
std::string why_gone(const ReportedPart& part, const Report& now) {
  for (const Miss& miss : now.misses) {
    if (distance(place_of(part), Point2{miss.x, miss.y}) > same_part_px) continue;
    std::string why;
    for (const MissReason& r : miss.reasons)
      why += fmt::format("{} {} {:.4g}, needed {}", why.empty() ? ":" : ";", r.name, r.value, r.needed);
    return why;
  }
  return {};
}

void compare_parts(const ReportedPart& then, const ReportedPart& now, std::vector<std::string>& said) {
  const double moved = distance(place_of(then), place_of(now));
  if (moved > same_px) said.push_back(fmt::format("{} moved by {:.2f} px", name_of(then), moved));
  if (then.detection.has_angle != now.detection.has_angle)
    said.push_back(
        fmt::format("{} {}", name_of(then), now.detection.has_angle ? "has an angle" : "has no angle"));
  else if (const double turn = (now.detection.angle - then.detection.angle).wrapped().degrees();
           then.detection.has_angle && std::abs(turn) > same_degrees)
    said.push_back(fmt::format("{} turned by {:.2f} degrees", name_of(then), turn));
  if (then.detection.ambiguous.has_value() != now.detection.ambiguous.has_value())
    said.push_back(
        fmt::format("{} {} ambiguous", name_of(then), now.detection.ambiguous ? "is" : "is no longer"));
  if (then.withheld.empty() != now.withheld.empty())
    said.push_back(now.withheld.empty() ? name_of(then) + " is sent"
                                        : fmt::format("{} is not sent: {}", name_of(then), now.withheld));
  else if (then.grasp && now.grasp && then.grasp->number != now.grasp->number)
    said.push_back(fmt::format("{}: grasp {} -> {}", name_of(then), then.grasp->number, now.grasp->number));
  if (then.verdict != now.verdict)
    said.push_back(
        fmt::format("{}: {} -> {}", name_of(then), word_or_none(then.verdict), word_or_none(now.verdict)));
}

/// Gauges by name and part.
void compare_readings(const Report& then, const Report& now, const std::vector<std::optional<size_t>>& match,
                      std::vector<std::string>& said) {
  for (const Reading& r : then.readings) {
    std::optional<size_t> part;
    if (r.part) {
      if (*r.part >= match.size() || !match[*r.part]) continue;  // its part is gone, which was said
      part = match[*r.part];
    }
    const auto same = std::find_if(now.readings.begin(), now.readings.end(), [&](const Reading& other) {
      return other.gauge == r.gauge && other.fixed == r.fixed && other.part == part;
    });
    const std::string of = r.part ? fmt::format("gauge {} of {}", r.gauge, name_of(then.parts[*r.part]))
                                  : fmt::format("gauge {}", r.gauge);
    if (same == now.readings.end())
      said.push_back(of + " is gone");
    else if (same->state != r.state)
      said.push_back(fmt::format("{}: {} -> {}", of, word_of(r.state), word_of(same->state)));
    else if (same->text != r.text)
      said.push_back(fmt::format("{}: '{}' -> '{}'", of, r.text, same->text));
  }
}

}  // namespace

std::vector<std::string> differences(const Report& then, const Report& now) {
  std::vector<std::string> said;
  if (then.unusable.empty() != now.unusable.empty())
    said.push_back(now.unusable.empty() ? "the picture can be looked at; it could not: " + then.unusable
                                        : "the picture cannot be looked at: " + now.unusable);
  const auto match = matched(then, now);
  std::vector<bool> known(now.parts.size());
  for (size_t i = 0; i < match.size(); ++i) {
    if (match[i])
      known[*match[i]] = true, compare_parts(then.parts[i], now.parts[*match[i]], said);
    else
      said.push_back(name_of(then.parts[i]) + " is gone" + why_gone(then.parts[i], now));
  }
  for (size_t k = 0; k < known.size(); ++k)
    if (!known[k]) said.push_back(name_of(now.parts[k]) + " is new");
  compare_readings(then, now, match, said);
  if (then.verdict != now.verdict)
    said.push_back(
        fmt::format("the picture: {} -> {}", word_or_none(then.verdict), word_or_none(now.verdict)));
  return said;
}

}  // namespace heron
