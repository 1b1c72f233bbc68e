#include "heron/base/range.hpp"

#include <fmt/format.h>

namespace heron {

void require_ordered(const Range<double>& range, const char* name, const char* unit) {
  if (!std::isfinite(range.min) || !std::isfinite(range.max))
    fail_argument(
        fmt::format("{} {}..{}{}: both ends must be finite numbers", name, range.min, range.max, unit));
  if (range.min > range.max)
    fail_argument(fmt::format("{} {}..{}{}: the ends are swapped; the smaller comes first, {}..{}{}", name,
                              range.min, range.max, unit, range.max, range.min, unit));
}

void require_ordered(const Range<Angle>& range, const char* name) {
  require_ordered(Range<double>{range.min.degrees(), range.max.degrees()}, name, " degrees");
}

}  // namespace heron
