#pragma once
#include <map>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "heron/image/picture.hpp"

namespace heron {

/// A picture within a picture's file: a chunk "ahPx", its name, a zero byte, and a whole PNG file.
struct PngExtra {
  std::string name, bytes;
};

/// What a PNG holds that we use: pixels, transparency if any (255 opaque), text chunks by keyword.
struct PngContent {
  Picture picture;
  std::optional<Image<uint8_t>> alpha;
  std::map<std::string, std::string> texts;
  std::vector<PngExtra> extras = {};
};

/// Each decoder throws Error{bad_file}; `path` words the message.
PngContent decode_png(std::string_view bytes, const std::string& path);
Picture decode_jpeg(std::string_view bytes, const std::string& path);
Picture decode_tiff(std::string_view bytes, const std::string& path);

/// `alpha` may be null. Texts become iTXt chunks.
std::string encode_png(const Picture& picture, const Image<uint8_t>* alpha,
                       const std::map<std::string, std::string>& texts,
                       const std::vector<PngExtra>& extras = {});
std::string encode_tiff(const Picture& picture);

/// Throws when a header announces more than may be read.
void require_size(double width, double height, const std::string& path);

/// Throws before memory is taken when a picture unpacks to more than a quarter of the input's budget, or to
/// more than its `packed` bytes can hold: compression makes of one byte `max_ratio` at the most.
void require_unpacked(size_t bytes, size_t packed, size_t max_ratio, const std::string& path);

}  // namespace heron
