#include "heron/image/picture.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>

#include "heron/base/error.hpp"

namespace heron {
namespace {

uint8_t luma(Rgb p) {
  return static_cast<uint8_t>((19595u * p.r + 38470u * p.g + 7471u * p.b + 32768u) >> 16);
}
uint8_t luma(uint16_t value) { return static_cast<uint8_t>((value + 128u) / 257u); }

template <class T>
Image<uint8_t> grey_of(const ImageView<const T>& source) {
  Image<uint8_t> grey(source.width(), source.height());
  for (int y = 0; y < source.height(); ++y) {
    const T* from = source.row(y);
    uint8_t* to = grey.row(y);
    for (int x = 0; x < source.width(); ++x) to[x] = luma(from[x]);
  }
  return grey;
}

}  // namespace

int Picture::width() const {
  return std::visit([](const auto& image) { return image.width(); }, pixels);
}
int Picture::height() const {
  return std::visit([](const auto& image) { return image.height(); }, pixels);
}

void require_square_pixels(const Picture& picture) {
  if (!picture.pitch_mm || !std::holds_alternative<Image<float>>(picture.pixels)) return;
  const Point2 pitch = *picture.pitch_mm;
  if (std::abs(pitch.x - pitch.y) <= 0.005 * std::max(pitch.x, pitch.y)) return;
  throw Error(ErrorCode::bad_file, ErrorPlace{picture.name.empty() ? "the picture" : picture.name},
              fmt::format("its pixels measure {:g} x {:g} mm, and what turns changes its shape on them; "
                          "`heron level MAP --square --output FILE` brings the map to square ones",
                          pitch.x, pitch.y));
}

Image<uint8_t> grey_levels(const Picture& picture) {
  if (const auto* grey = std::get_if<Image<uint8_t>>(&picture.pixels)) return *grey;
  if (const auto* color = std::get_if<Image<Rgb>>(&picture.pixels)) return grey_of(color->view());
  if (const auto* wide = std::get_if<Image<uint16_t>>(&picture.pixels)) return grey_of(wide->view());
  fail_argument(picture.name +
                " is a height map (float); this step needs an intensity picture of 8 or 16 bit");
}

Image<uint8_t> grey_levels(const ImageView<const Rgb>& picture) { return grey_of(picture); }

}  // namespace heron
