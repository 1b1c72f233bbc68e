#pragma once
#include <string>

#include "heron/locate/pattern.hpp"

namespace heron {

/// A target read from its file.
struct LoadedTarget {
  PatternTarget target;
  bool edited =
      false;  ///< the pixels or the mask were changed since it was written; the edges follow the change
};

/// Writes the target as a PNG picture: the taught pixels, transparent where they do not count, and a text
/// chunk "Able Heron target" with the settings; docs/formats.md. Complete or not at all. A search region is
/// not kept with a target.
void save_target(const std::string& path, const PatternTarget& target);

/// Reads it back and derives the edges anew. Throws Error{bad_file} for a file that is no target, with what
/// it is instead.
LoadedTarget load_target(const std::string& path);

}  // namespace heron
