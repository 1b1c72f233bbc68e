#pragma once
#include <array>
#include <string>

#include "heron/render/random.hpp"

namespace support {

/// A file as bad luck or bad will leaves it: bytes flipped, pieces cut out, doubled or swapped, numbers
/// replaced by those that hurt.
inline std::string mutated(std::string text, heron::render::Random& random) {
  static const std::array<const char*, 14> nasty{
      "nan",  "inf", "-inf", "1e999", "-1", "0",    "99999999999999999999",
      "[[[[", "]",   "\"",   "\n",    "=",  "\x00", "\xff\xfe"};
  const int times = random.whole(1, 4);
  for (int t = 0; t < times && !text.empty(); ++t) {
    const auto last = static_cast<int>(text.size()) - 1;
    const auto at = static_cast<size_t>(random.whole(0, last));
    const auto length = static_cast<size_t>(random.whole(1, 40));
    switch (random.whole(0, 6)) {
      case 0:
        text[at] = static_cast<char>(text[at] ^ (1 << random.whole(0, 7)));
        break;
      case 1:
        text.erase(at, length);
        break;
      case 2:
        text.insert(at, text.substr(static_cast<size_t>(random.whole(0, last)), length));
        break;
      case 3:
        text.resize(at);
        break;
      case 4:
        text.insert(at, nasty[static_cast<size_t>(random.whole(0, static_cast<int>(nasty.size()) - 1))]);
        break;
      case 5: {  // a number becomes another
        const size_t digit = text.find_first_of("0123456789", at);
        if (digit == std::string::npos) break;
        const size_t end = text.find_first_not_of("0123456789.eE+-", digit);
        text.replace(digit, (end == std::string::npos ? text.size() : end) - digit,
                     nasty[static_cast<size_t>(random.whole(0, 6))]);
        break;
      }
      default: {  // two lines change places
        const size_t line = text.rfind('\n', at), next = text.find('\n', at);
        if (line == std::string::npos || next == std::string::npos || next <= line) break;
        const std::string moved = text.substr(line, next - line);
        text.erase(line, next - line);
        text.insert(static_cast<size_t>(random.whole(0, static_cast<int>(text.size()))), moved);
      }
    }
  }
  return text;
}

}  // namespace support
