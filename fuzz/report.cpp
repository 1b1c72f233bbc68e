#include <string>

#include "heron/files/report_json.hpp"
#include "one_input.hpp"

extern "C" int LLVMFuzzerTestOneInput(const uint8_t* bytes, size_t count) {
  const std::string line(reinterpret_cast<const char*>(bytes), count);
  fuzz::refuse_or_read([&] { heron::report_of_json(line, "input"); });
  return 0;
}
