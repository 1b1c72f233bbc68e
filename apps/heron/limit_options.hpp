#pragma once
#include <CLI/CLI.hpp>
#include <optional>
#include <string>

#include "heron/locate/target.hpp"

namespace heron::tool {

/// What may be found, as options of `teach` and `find`; what is not given stays as it was.
struct LimitOptions {
  std::string angle, scale, count, inversion, thoroughness;
  std::optional<double> least_score, least_contrast, min_visible, most_outside;

  void add_to(CLI::App& command);
  /// Throws Error{invalid_argument} for text that is no range, count or word of them.
  FindLimits applied_to(FindLimits limits) const;
};

/// The limits that a kind honours, each "name", "value", as a person reads them.
std::vector<std::pair<std::string, std::string>> limit_words(const FindLimits& limits, const KindInfo& kind);

}  // namespace heron::tool
