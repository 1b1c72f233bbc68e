#pragma once
#include <CLI/CLI.hpp>
#include <optional>
#include <string>

#include "heron/locate/target.hpp"

namespace heron::tool {

/// What may be found, as options of `teach` and `find`; what is not given stays as it was.
struct FindArguments {
  std::string angle, scale, count, inversion, thoroughness;
  std::optional<double> min_score, min_contrast, min_visible, max_outside;

  void add_to(CLI::App& command);
  /// Throws Error{invalid_argument} for text that is no range, count or word of them.
  FindOptions applied_to(FindOptions options) const;
};

/// The limits that a kind honours, each "name", "value", as a person reads them.
std::vector<std::pair<std::string, std::string>> option_words(const FindOptions& options,
                                                              const KindInfo& kind);

}  // namespace heron::tool
