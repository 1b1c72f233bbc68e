#pragma once
#include "heron/base/angle.hpp"
#include "heron/base/error.hpp"

namespace heron {

/// A closed interval. Ranges are strict: a result outside is never returned; zero width fixes the value.
template <class T>
struct Range {
  T min{}, max{};
  constexpr bool contains(T value) const { return min <= value && value <= max; }
  constexpr bool operator==(const Range&) const = default;
};

inline constexpr Range<Angle> full_turn{degrees(-180), degrees(180)};

/// True when `angle`, turned by whole turns, lies in the range. A range of a full turn or more holds all.
inline bool contains_turned(const Range<Angle>& range, Angle angle) {
  const double turn = 2 * std::numbers::pi, slack = 1e-12;
  const double width = range.max.radians() - range.min.radians();
  double above = std::fmod(angle.radians() - range.min.radians(), turn);
  if (above < 0) above += turn;
  return width >= turn - slack || above <= width + slack || above >= turn - slack;
}

/// Throws when the ends are swapped or not finite. `name` and `unit` word the message.
void require_ordered(const Range<double>& range, const char* name, const char* unit = "");
void require_ordered(const Range<Angle>& range, const char* name);

}  // namespace heron
