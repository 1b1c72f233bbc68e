#pragma once
#include <string>

#include "heron/locate/target.hpp"

namespace heron {

/// A target read from its file.
struct LoadedTarget {
  Target target;
  bool edited = false;   ///< the pixels or the mask were changed since it was written; what is derived from
                         ///< them follows
  bool resized = false;  ///< the picture has another size than it was written with; the origin follows
  bool settings_lost = false;  ///< the text chunk is gone; defaults, and the picture's centre as the origin
};

/// The words of limits in files and options, and back: none, whole, local; quick, normal, exhaustive; a
/// number or all. Throw Error{invalid_argument} that names `option` for any other.
std::string word_of(Inversion inversion);
std::string word_of(Thoroughness thoroughness);
std::string count_word(int count);
Inversion inversion_of(const std::string& word, const char* option);
Thoroughness thoroughness_of(const std::string& word, const char* option);
int count_of(const std::string& word, const char* option);

/// Writes the target as a PNG picture: the taught pixels, transparent where they do not count, and a text
/// chunk "Able Heron target" with kind and settings; docs/formats.md. Complete or not at all. A search region
/// is not kept with a target.
void save_target(const std::string& path, const Target& target);

/// Reads it back and derives anew what its kind finds by. A picture with transparency but without the text
/// chunk is taken for a pattern whose settings were lost. Throws Error{bad_file} for a file that is no
/// target, with what it is instead.
LoadedTarget load_target(const std::string& path);

}  // namespace heron
