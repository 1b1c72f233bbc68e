#pragma once
#include <CLI/CLI.hpp>
#include <optional>
#include <string>

#include "heron/image/picture.hpp"
#include "heron/locate/target.hpp"

namespace heron::tool {

/// Millimetres at teaching, through a mapping: on its plane, or at a distance from its camera.
struct MillimetreOptions {
  std::string mapping, diameter, tolerance;
  std::optional<double> distance, size;

  void add_to(CLI::App& command);
  /// What a marker's settings are in pixels where the region lies, and the part's size as given. Throws
  /// Error{invalid_argument} for options that do not go together.
  void apply(const std::string& kind, const Region& region, TeachOptions& teaching) const;
  /// The real length of the target's first span, learned from the taught picture at the given distance;
  /// nothing where no distance or another size is given. Throws Error{invalid_argument} when the target has
  /// no span.
  std::optional<double> learned_size(const Target& target, const Picture& picture) const;
};

}  // namespace heron::tool
