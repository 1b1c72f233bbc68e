#pragma once
#include <fmt/format.h>

#include <cstdint>
#include <string>

namespace heron {

/// FNV-1a (Fowler, Noll, Vo): tells what changed from what did not, and keeps no secret.
class Hash {
 public:
  /// The low bytes of a number, the lowest first.
  void take(uint64_t value, int bytes = 8) {
    for (int i = 0; i < bytes; ++i) hash_ = (hash_ ^ ((value >> (8 * i)) & 255)) * 0x100000001b3ULL;
  }
  void take(const std::string& text) {
    for (const char c : text) take(static_cast<unsigned char>(c), 1);
    take(text.size());
  }
  std::string text() const { return fmt::format("{:016x}", hash_); }

 private:
  uint64_t hash_ = 0xcbf29ce484222325ULL;
};

}  // namespace heron
