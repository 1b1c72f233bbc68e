#include "heron/heights/square.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>

#include "heron/base/error.hpp"
#include "image/parallel.hpp"

namespace heron {
namespace {

float between(float a, float b, float to_b) {
  if (std::isnan(a) || std::isnan(b)) return to_b < 0.5f ? a : b;
  return a + to_b * (b - a);
}
uint8_t between(uint8_t a, uint8_t b, float to_b) {
  return static_cast<uint8_t>(std::lround(static_cast<float>(a) + to_b * static_cast<float>(b - a)));
}

/// Where the pixels of a new side lie between those of the old one.
struct Side {
  double step;  ///< old pixels a new one
  int old_size, size;

  Side(int old, double pitch, double finer, const char* name) : step(finer / pitch), old_size(old) {
    const double wanted = std::floor((old - 1) / step + 1e-9) + 1;
    if (!(wanted <= 32767))
      fail_argument(fmt::format("square pixels: {} pixels along {} are more than 32767", wanted, name));
    size = static_cast<int>(wanted);
  }
  int before(int k) const { return std::min(static_cast<int>(k * step + 1e-9), old_size - 1); }
  int after(int k) const { return std::min(before(k) + 1, old_size - 1); }
  float part(int k) const { return static_cast<float>(std::clamp(k * step - before(k), 0.0, 1.0)); }
};

template <class T>
SquarePixels<T> squared(const ImageView<const T>& map, Point2 pitch_mm) {
  if (!(pitch_mm.x > 0 && pitch_mm.y > 0 && std::isfinite(pitch_mm.x) && std::isfinite(pitch_mm.y)))
    fail_argument(fmt::format("pitch {:g},{:g} mm must be above 0", pitch_mm.x, pitch_mm.y));
  const double finer = std::min(pitch_mm.x, pitch_mm.y);
  if (map.width() == 0 || map.height() == 0) return {Image<T>(map.width(), map.height()), finer};
  const Side across(map.width(), pitch_mm.x, finer, "x"), down(map.height(), pitch_mm.y, finer, "y");
  SquarePixels<T> square{Image<T>(across.size, down.size), finer};
  parallel_rows(down.size, 64, [&](int first, int end) {
    for (int y = first; y < end; ++y) {
      const T *above = map.row(down.before(y)), *below = map.row(down.after(y));
      const float to_below = down.part(y);
      T* row = square.pixels.row(y);
      for (int x = 0; x < across.size; ++x) {
        const int left = across.before(x), right = across.after(x);
        const float to_right = across.part(x);
        row[x] = between(between(above[left], above[right], to_right),
                         between(below[left], below[right], to_right), to_below);
      }
    }
  });
  return square;
}

}  // namespace

SquarePixels<float> on_square_pixels(const ImageView<const float>& map, Point2 pitch_mm) {
  return squared(map, pitch_mm);
}
SquarePixels<uint8_t> on_square_pixels(const ImageView<const uint8_t>& picture, Point2 pitch_mm) {
  return squared(picture, pitch_mm);
}

}  // namespace heron
