#include "limits.hpp"

#include <fmt/format.h>

namespace heron {

void require_valid(const FindLimits& limits, double unit) {
  require_ordered(limits.angle, "angle");
  require_ordered(limits.scale, "scale");
  if (limits.scale.min < 0.1 || limits.scale.max > 10)
    fail_argument(fmt::format("scale {}..{} must lie within 0.1..10", limits.scale.min, limits.scale.max));
  if (!(limits.least_score >= 0 && limits.least_score <= 100))
    fail_argument(fmt::format("least score {} must be from 0 to 100", limits.least_score));
  const double contrast = limits.least_contrast / unit;
  if (!(contrast >= 1 && contrast <= 255))
    fail_argument(unit == 1
                      ? fmt::format("least contrast {} must be from 1 to 255 grey levels", contrast)
                      : fmt::format("least contrast {} must be from {:.3g} to {:.3g} mm for this relief",
                                    limits.least_contrast, unit, 255 * unit));
  if (limits.count < 1) fail_argument(fmt::format("count {} must be at least 1, or all", limits.count));
  for (const auto& [value, name] :
       {std::pair{limits.min_visible, "min visible"}, {limits.most_outside, "most outside"}})
    if (!(value >= 0 && value <= 1)) fail_argument(fmt::format("{} {} must be from 0 to 1", name, value));
}

}  // namespace heron
