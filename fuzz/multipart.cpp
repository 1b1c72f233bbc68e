#include <algorithm>

#include "heron/camera/http_camera.hpp"
#include "one_input.hpp"

// The first byte says into what pieces the others come.
extern "C" int LLVMFuzzerTestOneInput(const uint8_t* bytes, size_t count) {
  if (count < 2) return 0;
  const size_t piece = 1 + bytes[0];
  fuzz::refuse_or_read([&] {
    heron::MultipartParser cutter("frame", 1 << 16);
    for (size_t at = 1; at < count; at += piece) {
      cutter.feed(reinterpret_cast<const char*>(bytes) + at, std::min(piece, count - at));
      while (cutter.next()) {
      }
    }
  });
  return 0;
}
