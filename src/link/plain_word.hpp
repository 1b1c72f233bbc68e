#pragma once
#include <string>

namespace heron {

/// Characters outside A-Z a-z 0-9 _ . - become _: a name must not break the line that holds it.
inline std::string plain_word(std::string text) {
  for (char& c : text) {
    const bool fine = (c >= 'A' && c <= 'Z') || (c >= 'a' && c <= 'z') || (c >= '0' && c <= '9') ||
                      c == '_' || c == '.' || c == '-';
    if (!fine) c = '_';
  }
  return text;
}

}  // namespace heron
