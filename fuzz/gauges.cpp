#include "heron/files/gauge_file.hpp"
#include "one_input.hpp"

extern "C" int LLVMFuzzerTestOneInput(const uint8_t* bytes, size_t count) {
  const fuzz::File file(bytes, count);
  fuzz::refuse_or_read([&] { heron::load_gauges(file.path()); });
  return 0;
}
