#include <cstdlib>
#include <string>

#include "heron/link/text_protocol.hpp"
#include "one_input.hpp"

using namespace heron::text_protocol;

// Whatever is read can be written, and reads back to the same.
extern "C" int LLVMFuzzerTestOneInput(const uint8_t* bytes, size_t count) {
  const auto parsed = parse_robot_line({reinterpret_cast<const char*>(bytes), count});
  if (!parsed.line) return 0;
  const std::string again = encode(*parsed.line);
  const auto second = parse_robot_line(again);
  if (!second.line || encode(*second.line) != again) std::abort();
  return 0;
}
