#include <fmt/format.h>
#include <tiffio.h>

#include <algorithm>
#include <cstdarg>
#include <cstring>
#include <limits>
#include <memory>
#include <vector>

#include "codecs.hpp"
#include "heron/base/error.hpp"
#include "heron/files/input_budget.hpp"

namespace heron {
namespace {

/// A file in memory as libtiff wants it.
struct Memory {
  std::string bytes;
  size_t at = 0;

  static Memory& of(thandle_t handle) { return *static_cast<Memory*>(handle); }
  static tmsize_t read(thandle_t handle, void* out, tmsize_t count) {
    Memory& m = of(handle);
    const size_t n = m.at < m.bytes.size() ? std::min(static_cast<size_t>(count), m.bytes.size() - m.at) : 0;
    std::memcpy(out, m.bytes.data() + m.at, n);
    m.at += n;
    return static_cast<tmsize_t>(n);
  }
  static tmsize_t write(thandle_t handle, void* data, tmsize_t count) {
    Memory& m = of(handle);
    const auto n = static_cast<size_t>(count);
    if (m.at + n > m.bytes.size()) m.bytes.resize(m.at + n);
    std::memcpy(m.bytes.data() + m.at, data, n);
    m.at += n;
    return count;
  }
  static toff_t seek(thandle_t handle, toff_t offset, int whence) {
    Memory& m = of(handle);
    const toff_t base = whence == SEEK_CUR ? m.at : whence == SEEK_END ? m.bytes.size() : 0;
    m.at = static_cast<size_t>(base + offset);
    return m.at;
  }
  static int close(thandle_t) { return 0; }
  static toff_t size(thandle_t handle) { return of(handle).bytes.size(); }
};

using Tiff = std::unique_ptr<TIFF, decltype(&TIFFClose)>;

Tiff open(Memory& memory, const char* mode) {
  // libtiff writes to standard error by itself; what went wrong is said by our own messages. Its handlers
  // belong to this file alone, not to the program.
  const auto silent = [](TIFF*, void*, const char*, const char*, va_list) { return 1; };
  const std::unique_ptr<TIFFOpenOptions, decltype(&TIFFOpenOptionsFree)> options(TIFFOpenOptionsAlloc(),
                                                                                 TIFFOpenOptionsFree);
  if (!options) throw std::bad_alloc();
  TIFFOpenOptionsSetErrorHandlerExtR(options.get(), silent, nullptr);
  TIFFOpenOptionsSetWarningHandlerExtR(options.get(), silent, nullptr);
  TIFFOpenOptionsSetMaxSingleMemAlloc(options.get(), static_cast<tmsize_t>(input_budget() / 4));
  return {TIFFClientOpenExt("memory", mode, &memory, Memory::read, Memory::write, Memory::seek, Memory::close,
                            Memory::size, nullptr, nullptr, options.get()),
          TIFFClose};
}

template <class T>
Image<T> rows_of(TIFF* tiff, int width, int height, const std::string& path) {
  const auto row_bytes = static_cast<size_t>(TIFFScanlineSize(tiff));
  if (row_bytes < static_cast<size_t>(width) * sizeof(T))
    fail_file({path}, "broken TIFF: its rows are too short");
  std::vector<uint8_t> row(row_bytes);
  Image<T> image(width, height);
  for (int y = 0; y < height; ++y) {
    if (TIFFReadScanline(tiff, row.data(), static_cast<uint32_t>(y)) != 1)
      fail_file({path}, fmt::format("broken TIFF: it ends in row {} of {}", y, height));
    std::memcpy(image.row(y), row.data(), static_cast<size_t>(width) * sizeof(T));
  }
  return image;
}

void set_layout(TIFF* tiff, const Picture& picture, int bits, int samples, int format) {
  TIFFSetField(tiff, TIFFTAG_IMAGEWIDTH, picture.width());
  TIFFSetField(tiff, TIFFTAG_IMAGELENGTH, picture.height());
  TIFFSetField(tiff, TIFFTAG_BITSPERSAMPLE, bits);
  TIFFSetField(tiff, TIFFTAG_SAMPLESPERPIXEL, samples);
  TIFFSetField(tiff, TIFFTAG_SAMPLEFORMAT, format);
  TIFFSetField(tiff, TIFFTAG_PLANARCONFIG, PLANARCONFIG_CONTIG);
  TIFFSetField(tiff, TIFFTAG_PHOTOMETRIC, samples == 3 ? PHOTOMETRIC_RGB : PHOTOMETRIC_MINISBLACK);
  TIFFSetField(tiff, TIFFTAG_COMPRESSION, COMPRESSION_ADOBE_DEFLATE);
  TIFFSetField(tiff, TIFFTAG_ROWSPERSTRIP, TIFFDefaultStripSize(tiff, 0));
}

/// Millimetres a pixel by the resolution tags, where they are there and sensible.
std::optional<Point2> pitch_of(TIFF* tiff) {
  float across = 0, down = 0;
  uint16_t unit = RESUNIT_INCH;
  if (TIFFGetField(tiff, TIFFTAG_XRESOLUTION, &across) != 1 ||
      TIFFGetField(tiff, TIFFTAG_YRESOLUTION, &down) != 1)
    return std::nullopt;
  TIFFGetFieldDefaulted(tiff, TIFFTAG_RESOLUTIONUNIT, &unit);
  const double mm = unit == RESUNIT_CENTIMETER ? 10 : unit == RESUNIT_INCH ? 25.4 : 0;
  const Point2 pitch{mm / across, mm / down};
  const auto sensible = [](double p) { return p > 0 && p < 1e6; };
  return sensible(pitch.x) && sensible(pitch.y) ? std::optional(pitch) : std::nullopt;
}

void set_pitch(TIFF* tiff, Point2 pitch_mm) {
  TIFFSetField(tiff, TIFFTAG_RESOLUTIONUNIT, RESUNIT_CENTIMETER);
  TIFFSetField(tiff, TIFFTAG_XRESOLUTION, static_cast<float>(10 / pitch_mm.x));
  TIFFSetField(tiff, TIFFTAG_YRESOLUTION, static_cast<float>(10 / pitch_mm.y));
}

/// Of a picture whose white is zero.
void invert(Picture& picture) {
  const auto inverted = [](auto& image) {
    using T = std::remove_cvref_t<decltype(image(0, 0))>;
    for (int y = 0; y < image.height(); ++y)
      for (int x = 0; x < image.width(); ++x)
        image(x, y) = static_cast<T>(std::numeric_limits<T>::max() - image(x, y));
  };
  if (auto* grey = std::get_if<Image<uint8_t>>(&picture.pixels)) inverted(*grey);
  if (auto* deep = std::get_if<Image<uint16_t>>(&picture.pixels)) inverted(*deep);
}

}  // namespace

Picture decode_tiff(std::string_view bytes, const std::string& path) {
  Memory memory{std::string(bytes), 0};
  const Tiff tiff = open(memory, "rm");
  if (!tiff) fail_file({path}, "broken TIFF: no first picture in it");
  uint32_t width = 0, height = 0;
  uint16_t bits = 1, samples = 1, format = SAMPLEFORMAT_UINT, planar = PLANARCONFIG_CONTIG;
  TIFFGetField(tiff.get(), TIFFTAG_IMAGEWIDTH, &width);
  TIFFGetField(tiff.get(), TIFFTAG_IMAGELENGTH, &height);
  require_size(width, height, path);
  TIFFGetFieldDefaulted(tiff.get(), TIFFTAG_BITSPERSAMPLE, &bits);
  TIFFGetFieldDefaulted(tiff.get(), TIFFTAG_SAMPLESPERPIXEL, &samples);
  TIFFGetFieldDefaulted(tiff.get(), TIFFTAG_SAMPLEFORMAT, &format);
  TIFFGetFieldDefaulted(tiff.get(), TIFFTAG_PLANARCONFIG, &planar);
  uint16_t photometric = PHOTOMETRIC_MINISBLACK;
  TIFFGetFieldDefaulted(tiff.get(), TIFFTAG_PHOTOMETRIC, &photometric);
  constexpr size_t max_ratio = 5000;  // of any compression that is read
  require_unpacked(size_t{width} * height * samples * std::max(1, bits / 8), bytes.size(), max_ratio, path);
  const auto w = static_cast<int>(width), h = static_cast<int>(height);
  Picture picture;
  if (TIFFIsTiled(tiff.get())) fail_file({path}, "a TIFF in tiles; strips are read, save it without tiles");
  if (samples == 1 && bits == 8 && format == SAMPLEFORMAT_UINT)
    picture.pixels = rows_of<uint8_t>(tiff.get(), w, h, path);
  else if (samples == 1 && bits == 16 && format == SAMPLEFORMAT_UINT)
    picture.pixels = rows_of<uint16_t>(tiff.get(), w, h, path);
  else if (samples == 1 && bits == 32 && format == SAMPLEFORMAT_IEEEFP)
    picture.pixels = rows_of<float>(tiff.get(), w, h, path);
  else if (samples == 3 && bits == 8 && planar == PLANARCONFIG_CONTIG)
    picture.pixels = rows_of<Rgb>(tiff.get(), w, h, path);
  else
    fail_file({path},
              fmt::format("a TIFF of {} samples of {} bit; read are grey of 8 or 16 bit, color of 8 bit, and "
                          "height maps of 32 bit float",
                          samples, bits));
  if (photometric == PHOTOMETRIC_MINISWHITE) invert(picture);
  picture.pitch_mm = pitch_of(tiff.get());
  return picture;
}

std::string encode_tiff(const Picture& picture) {
  Memory memory;
  {
    const Tiff tiff = open(memory, "wm");
    if (!tiff) throw std::bad_alloc();
    std::visit(
        [&](const auto& image) {
          using T = std::remove_cvref_t<decltype(image(0, 0))>;
          const bool color = std::is_same_v<T, Rgb>;
          set_layout(tiff.get(), picture, color ? 8 : static_cast<int>(8 * sizeof(T)), color ? 3 : 1,
                     std::is_same_v<T, float> ? SAMPLEFORMAT_IEEEFP : SAMPLEFORMAT_UINT);
          if (picture.pitch_mm) set_pitch(tiff.get(), *picture.pitch_mm);
          for (int y = 0; y < image.height(); ++y)
            if (TIFFWriteScanline(tiff.get(), const_cast<T*>(image.row(y)), static_cast<uint32_t>(y), 0) != 1)
              throw std::bad_alloc();
        },
        picture.pixels);
  }
  return std::move(memory.bytes);
}

}  // namespace heron
