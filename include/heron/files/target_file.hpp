#pragma once
#include <string>

#include "heron/locate/pattern.hpp"

namespace heron {

/// A target read from its file.
struct LoadedTarget {
  PatternTarget target;
  bool edited =
      false;  ///< the pixels or the mask were changed since it was written; the edges follow the change
  bool resized = false;        ///< the picture has another size than it was written with; the origin follows
  bool settings_lost = false;  ///< the text chunk is gone; defaults, and the picture's centre as the origin
};

/// "as-taught", "inverted", "either" or "per-edge", and back. Throws Error{invalid_argument} that names
/// `option` for any other word.
std::string polarity_word(Polarity polarity);
Polarity polarity_of(const std::string& word, const char* option);

/// Writes the target as a PNG picture: the taught pixels, transparent where they do not count, and a text
/// chunk "Able Heron target" with the settings; docs/formats.md. Complete or not at all. A search region is
/// not kept with a target.
void save_target(const std::string& path, const PatternTarget& target);

/// Reads it back and derives the edges anew. A picture with transparency but without the text chunk is taken
/// for a target whose settings were lost. Throws Error{bad_file} for a file that is no target, with what
/// it is instead.
LoadedTarget load_target(const std::string& path);

}  // namespace heron
