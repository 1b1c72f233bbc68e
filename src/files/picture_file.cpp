#include "heron/files/picture_file.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <chrono>
#include <filesystem>

#include "codecs.hpp"
#include "heron/base/error.hpp"
#include "heron/files/atomic_file.hpp"
#include "heron/files/input_budget.hpp"

namespace heron {
namespace {

std::string ending_of(const std::string& path) {
  std::string ending = std::filesystem::path(path).extension().string();
  std::transform(ending.begin(), ending.end(), ending.begin(),
                 [](unsigned char c) { return std::tolower(c); });
  return ending;
}

}  // namespace

Picture decode_picture(std::string_view bytes, const std::string& path) {
  using namespace std::string_view_literals;
  if (bytes.empty()) fail_file({path}, "is empty");
  if (bytes.starts_with("\x89PNG\r\n\x1a\n"sv)) return decode_png(bytes, path).picture;
  if (bytes.starts_with("\xff\xd8\xff"sv)) return decode_jpeg(bytes, path);
  if (bytes.starts_with("II*\0"sv) || bytes.starts_with("MM\0*"sv)) return decode_tiff(bytes, path);
  fail_file({path}, "is neither PNG nor JPEG nor TIFF; convert it to one of them");
}

void require_size(double width, double height, const std::string& path) {
  if (width < 1 || height < 1) fail_file({path}, "a picture without pixels");
  if (width > max_pixels_a_side || height > max_pixels_a_side || width * height > max_pixels)
    fail_file({path}, fmt::format("{} x {} pixels; at most {} a side and {} million in all are read", width,
                                  height, max_pixels_a_side, max_pixels / 1e6));
}

void require_unpacked(size_t bytes, size_t packed, size_t max_ratio, const std::string& path) {
  constexpr size_t slack = 4096;
  const size_t most = input_budget() / 4;
  if (bytes > most)
    fail_file({path},
              fmt::format("unpacks to {} MB; at most {} MB are read, a quarter of the memory that an input "
                          "may take (heron --memory MB)",
                          bytes >> 20, most >> 20));
  if (bytes / max_ratio > packed + slack)
    fail_file({path}, fmt::format("announces {} MB of pixels and holds {} bytes, too few for them",
                                  bytes >> 20, packed));
}

Picture load_picture(const std::string& path) {
  Picture picture = decode_picture(read_file(path), path);
  picture.name = path;
  std::error_code ignored;
  const auto written = std::filesystem::last_write_time(path, ignored);
  if (!ignored)
    picture.taken = std::chrono::time_point_cast<std::chrono::system_clock::duration>(
        std::chrono::file_clock::to_sys(written));
  return picture;
}

std::optional<Image<uint8_t>> load_opaque(const std::string& path) {
  const std::string bytes = read_file(path);
  if (!bytes.starts_with("\x89PNG")) return std::nullopt;
  const PngContent content = decode_png(bytes, path);
  if (!content.alpha) return std::nullopt;
  const Image<uint8_t>& alpha = *content.alpha;
  Image<uint8_t> opaque(alpha.width(), alpha.height());
  for (int y = 0; y < alpha.height(); ++y)
    for (int x = 0; x < alpha.width(); ++x) opaque(x, y) = alpha(x, y) ? 255 : 0;
  return opaque;
}

std::string png_of(const Picture& picture) {
  if (std::holds_alternative<Image<float>>(picture.pixels))
    fail_argument("a height map cannot be a PNG; save it as .tif");
  return encode_png(picture, nullptr, {});
}

void save_picture(const std::string& path, const Picture& picture) {
  const std::string ending = ending_of(path);
  if (ending == ".png") return write_file(path, encode_png(picture, nullptr, {}));
  if (ending == ".tif" || ending == ".tiff") return write_file(path, encode_tiff(picture));
  fail_argument(fmt::format("{}: pictures are written as .png, .tif or .tiff", path));
}

void save_picture(const std::string& path, const ImageView<const uint8_t>& picture) {
  Picture whole;
  whole.pixels = Image<uint8_t>(picture);
  save_picture(path, whole);
}

void save_picture(const std::string& path, const ImageView<const Rgb>& picture) {
  Picture whole;
  whole.pixels = Image<Rgb>(picture);
  save_picture(path, whole);
}

}  // namespace heron
