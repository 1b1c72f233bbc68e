#include <fmt/format.h>
#include <png.h>

#include <cstring>
#include <vector>

#include "codecs.hpp"
#include "heron/base/error.hpp"
#include "heron/files/input_budget.hpp"

namespace heron {
namespace {

/// libpng reports errors by a callback that must not return; it throws, and the structs are freed by their
/// owners.
[[noreturn]] void on_error(png_structp png, png_const_charp message) {
  throw Error(ErrorCode::bad_file, ErrorPlace{*static_cast<const std::string*>(png_get_error_ptr(png))},
              fmt::format("broken PNG: {}", message));
}
void on_warning(png_structp, png_const_charp) {}

struct Source {
  std::string_view left;
};

constexpr png_byte extra_chunk[5] = {'a', 'h', 'P', 'x', 0};

void read_some(png_structp png, png_bytep out, size_t count) {
  auto* source = static_cast<Source*>(png_get_io_ptr(png));
  if (source->left.size() < count) png_error(png, "the file ends too early");
  std::memcpy(out, source->left.data(), count);
  source->left.remove_prefix(count);
}

void write_some(png_structp png, png_bytep data, size_t count) {
  static_cast<std::string*>(png_get_io_ptr(png))->append(reinterpret_cast<const char*>(data), count);
}
void flush_nothing(png_structp) {}

class Reader {
 public:
  Reader(Source& source, const std::string& path) {
    png_ =
        png_create_read_struct(PNG_LIBPNG_VER_STRING, const_cast<std::string*>(&path), on_error, on_warning);
    info_ = png_ ? png_create_info_struct(png_) : nullptr;
    if (!info_) throw std::bad_alloc();
    png_set_read_fn(png_, &source, read_some);
    png_set_user_limits(png_, PNG_UINT_31_MAX,
                        PNG_UINT_31_MAX);  // our own limit is checked with a clearer message
    png_set_chunk_malloc_max(png_, input_budget() / 16);
    png_set_chunk_cache_max(png_, 64);
    png_set_keep_unknown_chunks(png_, PNG_HANDLE_CHUNK_ALWAYS, extra_chunk, 1);
  }
  ~Reader() { png_destroy_read_struct(&png_, &info_, nullptr); }
  Reader(const Reader&) = delete;
  Reader& operator=(const Reader&) = delete;
  png_structp png() const { return png_; }
  png_infop info() const { return info_; }

 private:
  png_structp png_ = nullptr;
  png_infop info_ = nullptr;
};

class Writer {
 public:
  Writer(std::string& out, const std::string& path) {
    png_ =
        png_create_write_struct(PNG_LIBPNG_VER_STRING, const_cast<std::string*>(&path), on_error, on_warning);
    info_ = png_ ? png_create_info_struct(png_) : nullptr;
    if (!info_) throw std::bad_alloc();
    png_set_write_fn(png_, &out, write_some, flush_nothing);
  }
  ~Writer() { png_destroy_write_struct(&png_, &info_); }
  Writer(const Writer&) = delete;
  Writer& operator=(const Writer&) = delete;
  png_structp png() const { return png_; }
  png_infop info() const { return info_; }

 private:
  png_structp png_ = nullptr;
  png_infop info_ = nullptr;
};

/// Splits decoded rows of 1 to 4 channels into pixels and transparency.
template <class T>
void split_rows(const std::vector<uint8_t>& bytes, size_t row_bytes, int width, int height, int channels,
                PngContent& content) {
  const bool color = channels >= 3, has_alpha = channels == 2 || channels == 4;
  Image<T> grey(color ? 0 : width, color ? 0 : height);
  Image<Rgb> rgb(color ? width : 0, color ? height : 0);
  Image<uint8_t> alpha(has_alpha ? width : 0, has_alpha ? height : 0);
  for (int y = 0; y < height; ++y) {
    const T* p = reinterpret_cast<const T*>(bytes.data() + static_cast<size_t>(y) * row_bytes);
    for (int x = 0; x < width; ++x, p += channels) {
      if (color)
        rgb(x, y) = {static_cast<uint8_t>(p[0]), static_cast<uint8_t>(p[1]), static_cast<uint8_t>(p[2])};
      else
        grey(x, y) = p[0];
      if (has_alpha) alpha(x, y) = p[channels - 1] != 0 ? 255 : 0;
    }
  }
  if (color)
    content.picture.pixels = std::move(rgb);
  else
    content.picture.pixels = std::move(grey);
  if (has_alpha) content.alpha = std::move(alpha);
}

}  // namespace

PngContent decode_png(std::string_view bytes, const std::string& path) {
  Source source{bytes};
  const Reader reader(source, path);
  png_structp png = reader.png();
  png_infop info = reader.info();
  png_read_info(png, info);
  const auto width = png_get_image_width(png, info), height = png_get_image_height(png, info);
  require_size(width, height, path);
  constexpr size_t deflate = 1040;  // bytes of one, at the most
  require_unpacked(png_get_rowbytes(png, info) * height, bytes.size(), deflate, path);

  const int type = png_get_color_type(png, info);
  if (type == PNG_COLOR_TYPE_PALETTE) png_set_palette_to_rgb(png);
  if (type == PNG_COLOR_TYPE_GRAY && png_get_bit_depth(png, info) < 8) png_set_expand_gray_1_2_4_to_8(png);
  if (png_get_valid(png, info, PNG_INFO_tRNS)) png_set_tRNS_to_alpha(png);
  if (png_get_bit_depth(png, info) == 16) {
    if (type & PNG_COLOR_MASK_COLOR)
      png_set_scale_16(png);
    else
      png_set_swap(png);  // PNG is big-endian
  }
  png_set_interlace_handling(png);
  png_read_update_info(png, info);

  const size_t row_bytes = png_get_rowbytes(png, info);
  require_unpacked(row_bytes * height, bytes.size(), row_bytes * height, path);
  const int channels = png_get_channels(png, info), depth = png_get_bit_depth(png, info);
  std::vector<uint8_t> pixels(row_bytes * height);
  std::vector<png_bytep> rows;
  for (size_t y = 0; y < height; ++y) rows.push_back(pixels.data() + y * row_bytes);
  png_read_image(png, rows.data());
  png_read_end(png, info);

  PngContent content;
  const auto w = static_cast<int>(width), h = static_cast<int>(height);
  if (depth == 16)
    split_rows<uint16_t>(pixels, row_bytes, w, h, channels, content);
  else
    split_rows<uint8_t>(pixels, row_bytes, w, h, channels, content);
  png_textp texts = nullptr;
  const int count = png_get_text(png, info, &texts, nullptr);
  for (int i = 0; i < count; ++i) content.texts[texts[i].key] = texts[i].text ? texts[i].text : "";
  png_unknown_chunkp chunks = nullptr;
  const int chunk_count = png_get_unknown_chunks(png, info, &chunks);
  for (int i = 0; i < chunk_count; ++i) {
    const std::string data(reinterpret_cast<const char*>(chunks[i].data), chunks[i].size);
    const size_t end = data.find('\0');
    if (end != std::string::npos) content.extras.push_back({data.substr(0, end), data.substr(end + 1)});
  }
  return content;
}

std::string encode_png(const Picture& picture, const Image<uint8_t>* alpha,
                       const std::map<std::string, std::string>& texts, const std::vector<PngExtra>& extras) {
  if (std::holds_alternative<Image<float>>(picture.pixels))
    fail_argument("a height map does not fit a PNG picture; write it as .tif");
  std::string out;
  const std::string path = "PNG";
  const Writer writer(out, path);
  png_structp png = writer.png();
  png_infop info = writer.info();
  const auto width = static_cast<png_uint_32>(picture.width()),
             height = static_cast<png_uint_32>(picture.height());
  const bool color = std::holds_alternative<Image<Rgb>>(picture.pixels),
             wide = std::holds_alternative<Image<uint16_t>>(picture.pixels);
  const int type = (color ? PNG_COLOR_MASK_COLOR : 0) | (alpha ? PNG_COLOR_MASK_ALPHA : 0);
  png_set_IHDR(png, info, width, height, wide ? 16 : 8, type, PNG_INTERLACE_NONE,
               PNG_COMPRESSION_TYPE_DEFAULT, PNG_FILTER_TYPE_DEFAULT);
  // Noise does not compress: more effort would cost seconds and save a few percent.
  png_set_compression_level(png, 2);
  png_set_filter(png, PNG_FILTER_TYPE_BASE, PNG_FILTER_SUB | PNG_FILTER_UP);
  std::vector<png_text> chunks;
  for (const auto& [key, text] : texts) {
    png_text chunk{};
    chunk.compression = PNG_ITXT_COMPRESSION_NONE;
    chunk.key = const_cast<char*>(key.c_str());
    chunk.text = const_cast<char*>(text.c_str());
    chunk.itxt_length = text.size();
    char* none = const_cast<char*>("");
    chunk.lang = none, chunk.lang_key = none;
    chunks.push_back(chunk);
  }
  if (!chunks.empty()) png_set_text(png, info, chunks.data(), static_cast<int>(chunks.size()));
  std::vector<png_unknown_chunk> own;
  std::vector<std::string> own_data;
  own_data.reserve(extras.size());
  for (const PngExtra& extra : extras) {
    own_data.push_back(extra.name + '\0' + extra.bytes);
    png_unknown_chunk chunk{};
    std::memcpy(chunk.name, extra_chunk, sizeof extra_chunk);
    chunk.data = reinterpret_cast<png_byte*>(own_data.back().data());
    chunk.size = own_data.back().size();
    chunk.location = PNG_HAVE_IHDR;
    own.push_back(chunk);
  }
  if (!own.empty()) {
    png_set_keep_unknown_chunks(png, PNG_HANDLE_CHUNK_ALWAYS, extra_chunk, 1);
    png_set_unknown_chunks(png, info, own.data(), static_cast<int>(own.size()));
  }
  png_write_info(png, info);
  if (wide) png_set_swap(png);

  const size_t sample = wide ? 2 : 1, channels = (color ? 3 : 1) + (alpha ? 1 : 0);
  std::vector<uint8_t> row(static_cast<size_t>(width) * channels * sample);
  for (int y = 0; y < picture.height(); ++y) {
    if (const auto* rgb = std::get_if<Image<Rgb>>(&picture.pixels)) {
      for (int x = 0; x < picture.width(); ++x) {
        uint8_t* to = row.data() + static_cast<size_t>(x) * channels;
        const Rgb p = (*rgb)(x, y);
        to[0] = p.r, to[1] = p.g, to[2] = p.b;
        if (alpha) to[3] = (*alpha)(x, y);
      }
    } else if (const auto* deep = std::get_if<Image<uint16_t>>(&picture.pixels)) {
      auto* to = reinterpret_cast<uint16_t*>(row.data());
      for (int x = 0; x < picture.width(); ++x) {
        to[static_cast<size_t>(x) * channels] = (*deep)(x, y);
        if (alpha) to[static_cast<size_t>(x) * channels + 1] = (*alpha)(x, y) ? 65535 : 0;
      }
    } else {
      const auto& grey = std::get<Image<uint8_t>>(picture.pixels);
      for (int x = 0; x < picture.width(); ++x) {
        row[static_cast<size_t>(x) * channels] = grey(x, y);
        if (alpha) row[static_cast<size_t>(x) * channels + 1] = (*alpha)(x, y);
      }
    }
    png_write_row(png, row.data());
  }
  png_write_end(png, info);
  return out;
}

}  // namespace heron
