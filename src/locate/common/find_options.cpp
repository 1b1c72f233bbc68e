#include "find_options.hpp"

#include <fmt/format.h>

namespace heron {

void require_valid(const FindOptions& options, double unit) {
  require_ordered(options.angle, "angle");
  require_ordered(options.scale, "scale");
  if (options.scale.min < 0.1 || options.scale.max > 10)
    fail_argument(fmt::format("scale {}..{} must lie within 0.1..10", options.scale.min, options.scale.max));
  if (!(options.min_score >= 0 && options.min_score <= 100))
    fail_argument(fmt::format("min score {} must be from 0 to 100", options.min_score));
  const double contrast = options.min_contrast / unit;
  if (!(contrast >= 1 && contrast <= 255))
    fail_argument(unit == 1 ? fmt::format("min contrast {} must be from 1 to 255 grey levels", contrast)
                            : fmt::format("min contrast {} must be from {:.3g} to {:.3g} mm for this relief",
                                          options.min_contrast, unit, 255 * unit));
  if (options.max_count < 1)
    fail_argument(fmt::format("max count {} must be at least 1, or all", options.max_count));
  for (const auto& [value, name] :
       {std::pair{options.min_visible, "min visible"}, {options.max_outside, "max outside"}})
    if (!(value >= 0 && value <= 1)) fail_argument(fmt::format("{} {} must be from 0 to 1", name, value));
}

}  // namespace heron
