#include <fmt/format.h>

#include <array>
#include <csetjmp>
#include <cstdio>
#include <cstring>
#include <vector>

#include <jpeglib.h>

#include "codecs.hpp"
#include "heron/base/error.hpp"

namespace heron {
namespace {

/// libjpeg is C and may only be left by a jump; nothing with a destructor is created between the jump's mark
/// and its use.
struct ErrorManager {
  jpeg_error_mgr base;
  std::jmp_buf leave;
  std::array<char, JMSG_LENGTH_MAX> message;
};

void on_error(j_common_ptr info) {
  auto* manager = reinterpret_cast<ErrorManager*>(info->err);
  info->err->format_message(info, manager->message.data());
  std::longjmp(manager->leave, 1);
}

/// A truncated file is only a warning to libjpeg, which would fill the rest with grey.
void on_message(j_common_ptr info, int level) {
  if (level < 0) on_error(info);
}

bool decode(std::string_view bytes, ErrorManager& errors, jpeg_decompress_struct& info,
            std::vector<uint8_t>& pixels, const std::string& path) {
  if (setjmp(errors.leave)) return false;
  jpeg_create_decompress(&info);
  jpeg_mem_src(&info, reinterpret_cast<const unsigned char*>(bytes.data()), bytes.size());
  jpeg_read_header(&info, TRUE);
  require_size(info.image_width, info.image_height, path);
  info.out_color_space = info.jpeg_color_space == JCS_GRAYSCALE ? JCS_GRAYSCALE : JCS_RGB;
  jpeg_start_decompress(&info);
  const size_t row_bytes =
      static_cast<size_t>(info.output_width) * static_cast<size_t>(info.output_components);
  pixels.resize(row_bytes * info.output_height);
  while (info.output_scanline < info.output_height) {
    JSAMPROW row = pixels.data() + row_bytes * info.output_scanline;
    jpeg_read_scanlines(&info, &row, 1);
  }
  jpeg_finish_decompress(&info);
  return true;
}

}  // namespace

Picture decode_jpeg(std::string_view bytes, const std::string& path) {
  ErrorManager errors{};
  jpeg_decompress_struct info{};
  info.err = jpeg_std_error(&errors.base);
  errors.base.error_exit = on_error;
  errors.base.emit_message = on_message;
  std::vector<uint8_t> pixels;
  struct Destroy {
    jpeg_decompress_struct& info;
    ~Destroy() { jpeg_destroy_decompress(&info); }
  } const destroy{info};
  if (!decode(bytes, errors, info, pixels, path))
    fail_file({path}, fmt::format("broken JPEG: {}", errors.message.data()));

  Picture picture;
  const auto width = static_cast<int>(info.output_width), height = static_cast<int>(info.output_height);
  if (info.output_components == 1) {
    Image<uint8_t> grey(width, height);
    for (int y = 0; y < height; ++y)
      std::memcpy(grey.row(y), pixels.data() + static_cast<size_t>(y) * static_cast<size_t>(width),
                  static_cast<size_t>(width));
    picture.pixels = std::move(grey);
  } else {
    Image<Rgb> rgb(width, height);
    for (int y = 0; y < height; ++y)
      std::memcpy(rgb.row(y), pixels.data() + static_cast<size_t>(y) * static_cast<size_t>(width) * 3,
                  static_cast<size_t>(width) * 3);
    picture.pixels = std::move(rgb);
  }
  return picture;
}

}  // namespace heron
