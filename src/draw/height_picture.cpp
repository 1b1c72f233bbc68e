#include <fmt/format.h>

#include "base/round_step.hpp"
#include "heat.hpp"
#include "heron/base/error.hpp"
#include "heron/draw/overlay.hpp"

namespace heron {
namespace {

using namespace draw;

/// Where all but the lowest and highest hundredth of the heights lie.
Range<double> middle_range(const ImageView<const float>& map) {
  std::vector<float> heights;
  const int step = std::max(1, map.height() / 300);
  for (int y = 0; y < map.height(); y += step)
    for (int x = 0; x < map.width(); ++x)
      if (std::isfinite(map(x, y))) heights.push_back(map(x, y));
  if (heights.empty()) return {0, 1};
  const auto at = [&](double share) {
    const auto place =
        heights.begin() + static_cast<std::ptrdiff_t>(share * static_cast<double>(heights.size() - 1));
    std::nth_element(heights.begin(), place, heights.end());
    return static_cast<double>(*place);
  };
  const Range<double> range{at(0.01), at(0.99)};
  return range.max > range.min ? range : Range<double>{range.min - 0.5, range.max + 0.5};
}

void draw_scale(Canvas& canvas, const Range<double>& range, int width, int height, int zoom) {
  const double bar = std::min(20.0, 0.03 * width), top = 0.15 * height, length = 0.7 * height,
               left = width - 2.2 * bar;
  for (int k = 0; k < 100; ++k)
    canvas.patch({left, top + length * (99 - k) / 100}, bar, length / 100 + 1, heat(k / 99.0));
  canvas.box({left, top}, bar, length, {1, 1, 1}, Stroke::solid);
  const double step = round_step(range.max - range.min);
  for (double k = std::ceil(range.min / step); k * step <= range.max; ++k) {
    const double y = top + length * (range.max - k * step) / (range.max - range.min);
    canvas.line({left, y}, {left + bar, y}, {1, 1, 1}, 1);
    canvas.label({left - 60.0 / zoom, y - 9.0 / zoom}, fmt::format("{:g}", k * step + 0.0), {1, 1, 1}, 12);
  }
  canvas.label({left - 60.0 / zoom, top - 26.0 / zoom}, "height, mm", {1, 1, 1}, 12);
}

}  // namespace

Image<Rgb> draw_heights(const ImageView<const float>& map, const std::optional<Range<double>>& given,
                        Point2 pitch_mm, const ImageView<const uint8_t>* intensity) {
  if (intensity && (intensity->width() != map.width() || intensity->height() != map.height()))
    fail_argument(fmt::format("heights: the intensity has {} x {} pixels, the map {} x {}",
                              intensity->width(), intensity->height(), map.width(), map.height()));
  if (given) require_ordered(*given, "height range", " mm");
  const Range<double> range = given.value_or(middle_range(map));
  const int zoom = std::clamp(1280 / std::max(1, std::max(map.width(), map.height())), 1, 8);
  Image<uint8_t> ground(map.width(), map.height()), holes(map.width(), map.height());
  bool any_hole = false;
  for (int y = 0; y < map.height(); ++y)
    for (int x = 0; x < map.width(); ++x) {
      ground(x, y) = 60;
      holes(x, y) = std::isfinite(map(x, y)) ? 0 : 255;
      any_hole = any_hole || holes(x, y);
    }
  Canvas canvas(ground, zoom);
  for (int y = 0; y < map.height(); ++y)
    for (int x = 0; x < map.width(); ++x)
      if (!holes(x, y)) {
        Color c = heat((map(x, y) - range.min) / std::max(1e-12, range.max - range.min));
        if (intensity) {
          const double shade = 0.5 + 0.5 * (*intensity)(x, y) / 255.0;
          c.r *= shade, c.g *= shade, c.b *= shade;
        }
        canvas.patch({x - 0.5, y - 0.5}, 1, 1, c);
      }
  canvas.stripes(holes, {0.36, 0.36, 0.4}, false);
  draw_scale(canvas, range, map.width(), map.height(), zoom);
  if (any_hole) canvas.label({6.0 / zoom, 6.0 / zoom}, "striped grey: not measured", {1, 1, 1}, 12);
  if (pitch_mm.x > 0) {
    const double length = round_step(map.width() * pitch_mm.x);
    const Point2 from{0.04 * map.width(), 0.95 * map.height()}, to = from + Point2{length / pitch_mm.x, 0};
    canvas.line(from, to, {1, 1, 1}, 3);
    canvas.label(from + Point2{0, -22.0 / zoom}, fmt::format("{:g} mm", length));
  }
  return canvas.image();
}

}  // namespace heron
