#pragma once
#include <CLI/CLI.hpp>
#include <map>
#include <string>

#include "heron/gauge/gauge.hpp"

namespace heron::tool {

/// The settings of every kind of gauge as options of `gauge add`, made from the kinds' own tables.
class GaugeOptions {
 public:
  void add_to(CLI::App& command);
  /// The kind with what was given. Throws Error{invalid_argument} for a setting that the kind does not have,
  /// or text that is none of its sort.
  GaugeKind applied_to(GaugeKind kind) const;

 private:
  std::map<std::string, std::string> texts_;
};

/// Components that a gauge follows: "x,y,angle", or "nothing".
Follows parse_follows(const std::string& text);

}  // namespace heron::tool
