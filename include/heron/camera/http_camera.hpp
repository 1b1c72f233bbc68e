#pragma once
#include "heron/camera/camera.hpp"

namespace heron {

/// Cuts a stream of parts (multipart/x-mixed-replace, RFC 2046) into its bodies. Pure: bytes in, parts out.
class MultipartParser {
 public:
  /// `boundary` as the content type names it. A part larger than `max_bytes` is an Error{no_connection}.
  explicit MultipartParser(const std::string& boundary, size_t max_bytes = size_t{64} << 20);
  void feed(const char* bytes, size_t count);
  /// The next whole part, if there is one.
  std::optional<std::string> next();

 private:
  std::string mark_, buffer_;
  size_t max_bytes_;
};

/// A camera that gives a picture, or a stream of JPEG pictures (MJPEG), at http://host:port/path. Each `take`
/// asks anew, so that no stale picture waits in a buffer. Throws Error{invalid_argument} for another address;
/// `take` throws Error{no_connection} when nobody answers, the answer is no picture, or a stream ends before
/// one is whole.
std::unique_ptr<Camera> open_http(const std::string& address, const CameraTimeout& timeout = {});

}  // namespace heron
