#include "color_distance.hpp"

#include <algorithm>
#include <cmath>

#include "heron/base/median.hpp"
#include "image/parallel.hpp"
#include "silhouette.hpp"

namespace heron {

std::array<double, 3> color_along_border(const ImageView<const Rgb>& picture, const Region& region) {
  constexpr int inside = 3;  // pixels
  const Image<uint8_t> mask = region.mask(picture.width(), picture.height());
  const auto in = [&](int x, int y) { return mask.view().holds(x, y) && mask(x, y) != 0; };
  std::array<std::vector<double>, 3> values;
  for (int y = 0; y < picture.height(); ++y)
    for (int x = 0; x < picture.width(); ++x) {
      if (!in(x, y) || (in(x - inside, y) && in(x + inside, y) && in(x, y - inside) && in(x, y + inside)))
        continue;
      const Rgb p = picture(x, y);
      values[0].push_back(p.r), values[1].push_back(p.g), values[2].push_back(p.b);
    }
  std::array<double, 3> color{};
  for (size_t i = 0; i < 3; ++i) color[i] = median(values[i]);
  return color;
}

namespace {

using ColorVector = std::array<double, 3>;

ColorVector unit_of(const ColorVector& v) {
  const double size = std::sqrt(v[0] * v[0] + v[1] * v[1] + v[2] * v[2]);
  return {v[0] / size, v[1] / size, v[2] / size};
}

/// How much of a pixel is of the backdrop's color, as a grey level: white's length is 255 times the root of
/// three.
constexpr float to_byte = 0.57735f;

Image<uint8_t> along_backdrop(const ImageView<const Rgb>& picture, const ColorVector& unit) {
  const auto r = static_cast<float>(unit[0]), g = static_cast<float>(unit[1]),
             b = static_cast<float>(unit[2]);
  Image<uint8_t> along(picture.width(), picture.height());
  parallel_rows(picture.height(), 64, [&](int first, int end) {
    for (int y = first; y < end; ++y) {
      const Rgb* row = picture.row(y);
      uint8_t* out = along.row(y);
      for (int x = 0; x < picture.width(); ++x)
        out[x] = static_cast<uint8_t>(to_byte * (r * row[x].r + g * row[x].g + b * row[x].b) + 0.5f);
    }
  });
  return along;
}

}  // namespace

Image<uint8_t> distance_from_color(const ImageView<const Rgb>& picture, const ColorVector& backdrop,
                                   const ColorVector& towards) {
  const int width = picture.width(), height = picture.height();
  const ColorVector unit = unit_of(backdrop);
  const double size = backdrop[0] * unit[0] + backdrop[1] * unit[1] + backdrop[2] * unit[2];
  const BackdropLevel level = level_of(along_backdrop(picture, unit), nullptr);
  const auto r = static_cast<float>(unit[0]), g = static_cast<float>(unit[1]),
             b = static_cast<float>(unit[2]);
  const auto tr = static_cast<float>(towards[0]), tg = static_cast<float>(towards[1]),
             tb = static_cast<float>(towards[2]);
  const bool one_way = towards[0] != 0 || towards[1] != 0 || towards[2] != 0;
  Image<uint8_t> away(width, height);
  parallel_rows(height, 64, [&](int first, int end) {
    std::vector<float> brighter(static_cast<size_t>(width));  // what brings the light back to the taught one
    for (int y = first; y < end; ++y) {
      const Rgb* row = picture.row(y);
      uint8_t* out = away.row(y);
      const double v = share_of(y, height);
      for (int x = 0; x < width; ++x)
        brighter[static_cast<size_t>(x)] =
            static_cast<float>(to_byte * size / std::max(level.at(share_of(x, width), v), 4.0));
      const float ground = away_ground + 0.5f;
      for (int x = 0; x < width; ++x) {
        const float p = row[x].r, q = row[x].g, s = row[x].b;
        float value = p * tr + q * tg + s * tb;
        if (!one_way) {
          const float same = r * p + g * q + b * s, dr = p - same * r, dg = q - same * g, db = s - same * b;
          value = std::sqrt(dr * dr + dg * dg + db * db);
        }
        out[x] = static_cast<uint8_t>(
            std::min(std::max(value * brighter[static_cast<size_t>(x)] + ground, 0.0f), 255.0f));
      }
    }
  });
  return away;
}

ColorVector direction_from_color(const ImageView<const Rgb>& picture, const ColorVector& backdrop,
                                 const Image<uint8_t>& part) {
  const ColorVector unit = unit_of(backdrop);
  ColorVector sum{};
  double sizes = 0;
  for (int y = 0; y < picture.height(); ++y)
    for (int x = 0; x < picture.width(); ++x) {
      if (!part(x, y)) continue;
      const ColorVector p{static_cast<double>(picture(x, y).r), static_cast<double>(picture(x, y).g),
                          static_cast<double>(picture(x, y).b)};
      const double same = p[0] * unit[0] + p[1] * unit[1] + p[2] * unit[2];
      double square = 0;
      for (size_t i = 0; i < 3; ++i) {
        const double off = p[i] - same * unit[i];
        sum[i] += off, square += off * off;
      }
      sizes += std::sqrt(square);
    }
  const double size = std::sqrt(sum[0] * sum[0] + sum[1] * sum[1] + sum[2] * sum[2]);
  constexpr double agreed = 0.9;
  return sizes > 0 && size > agreed * sizes ? unit_of(sum) : ColorVector{};
}

}  // namespace heron
