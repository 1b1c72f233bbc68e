#include <string_view>

#include "heron/files/picture_file.hpp"
#include "one_input.hpp"

extern "C" int LLVMFuzzerTestOneInput(const uint8_t* bytes, size_t count) {
  fuzz::refuse_or_read([&] {
    heron::decode_picture({reinterpret_cast<const char*>(bytes), count}, "input");
  });
  return 0;
}
