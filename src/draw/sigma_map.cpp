#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <limits>

#include "heat.hpp"
#include "heron/base/error.hpp"
#include "heron/draw/overlay.hpp"

namespace heron {
namespace {

using namespace draw;

/// Sigmas at the corners of square cells over the picture.
struct Field {
  int columns, rows;
  double cell;
  std::vector<double> values;
  double at(int i, int j) const { return values[static_cast<size_t>(j * (columns + 1) + i)]; }
};

Field field_of(int width, int height, const Mapping& mapping) {
  const double cell = std::max(width, height) / 80.0;
  Field f{static_cast<int>(std::ceil(width / cell)), static_cast<int>(std::ceil(height / cell)), cell, {}};
  for (int j = 0; j <= f.rows; ++j)
    for (int i = 0; i <= f.columns; ++i) {
      double sigma = std::numeric_limits<double>::quiet_NaN();
      try {
        const WorldPose p = mapping.world_pose({i * cell - 0.5, j * cell - 0.5}, {});
        sigma = std::hypot(p.sigma.x, p.sigma.y);
      } catch (const Error&) {
        // Past the plane's horizon nothing is known.
      }
      f.values.push_back(sigma);
    }
  return f;
}

/// Pieces of the line where the field takes `level` (marching squares, saddles split either way).
std::vector<std::pair<Point2, Point2>> contour(const Field& f, double level) {
  std::vector<std::pair<Point2, Point2>> pieces;
  for (int j = 0; j < f.rows; ++j)
    for (int i = 0; i < f.columns; ++i) {
      const Point2 corners[] = {{0, 0}, {1, 0}, {1, 1}, {0, 1}};
      std::vector<Point2> crossings;
      for (size_t k = 0; k < 4; ++k) {
        const Point2 a = corners[k], b = corners[(k + 1) % 4];
        const double va = f.at(i + static_cast<int>(a.x), j + static_cast<int>(a.y)),
                     vb = f.at(i + static_cast<int>(b.x), j + static_cast<int>(b.y));
        if ((va < level) == (vb < level) || std::isnan(va) || std::isnan(vb)) continue;
        const Point2 p = a + (b - a) * ((level - va) / (vb - va));
        crossings.push_back({(i + p.x) * f.cell - 0.5, (j + p.y) * f.cell - 0.5});
      }
      for (size_t k = 0; k + 1 < crossings.size(); k += 2)
        pieces.emplace_back(crossings[k], crossings[k + 1]);
    }
  return pieces;
}

}  // namespace

Image<Rgb> draw_sigma_map(int width, int height, const Mapping& mapping,
                          const std::vector<MappedPoint>& points) {
  Image<uint8_t> ground(width, height);
  for (int y = 0; y < height; ++y) std::fill_n(ground.row(y), width, uint8_t{120});
  Canvas canvas(ground);
  const Field f = field_of(width, height, mapping);
  double low = std::numeric_limits<double>::infinity(), high = 0;
  for (double v : f.values)
    if (std::isfinite(v)) low = std::min(low, v), high = std::max(high, v);
  // A horizon would take all colors: the highest twentieth shares the brightest.
  std::vector<double> finite;
  for (double v : f.values)
    if (std::isfinite(v)) finite.push_back(v);
  if (!finite.empty()) {
    const auto at =
        finite.begin() + static_cast<std::ptrdiff_t>(0.95 * static_cast<double>(finite.size() - 1));
    std::nth_element(finite.begin(), at, finite.end());
    high = *at;
  } else {
    low = 0;
  }
  const auto share = [&](double v) { return high > low ? (v - low) / (high - low) : 0; };
  for (int j = 0; j < f.rows; ++j)
    for (int i = 0; i < f.columns; ++i) {
      const double mean = 0.25 * (f.at(i, j) + f.at(i + 1, j) + f.at(i, j + 1) + f.at(i + 1, j + 1));
      if (std::isfinite(mean))
        canvas.patch({i * f.cell - 0.5, j * f.cell - 0.5}, f.cell + 1, f.cell + 1, heat(share(mean)));
    }
  for (const MappedPoint& p : points) canvas.ring(p.pixel, 1.5, {1, 1, 1}, 0.8);
  const double size = std::max(11.0, width / 90.0);
  if (high > low * 1.02) {
    const double step = round_step(high - low);
    std::vector<std::pair<double, std::vector<std::pair<Point2, Point2>>>> contours;
    for (double level = std::ceil(low / step) * step; level < high; level += step) {
      contours.emplace_back(level, contour(f, level));
      canvas.lines(contours.back().second, {1, 1, 1}, 1.2);
    }
    // Each word on its own line, where no other stands: as near as may be to the diagonal.
    std::vector<Point2> taken;
    const double label_width = 6 * size;
    for (const auto& [level, pieces] : contours) {
      const std::pair<Point2, Point2>* best = nullptr;
      double least = std::numeric_limits<double>::infinity();
      for (const auto& piece : pieces) {
        const Point2 at = piece.first;
        const bool inside =
            at.x > size && at.y > 3 * size && at.x < width - label_width && at.y < height - 6 * size;
        const double off = std::abs(at.x * height - at.y * width);
        if (inside && off < least && std::none_of(taken.begin(), taken.end(), [&](Point2 other) {
              return std::abs(other.x - at.x) < label_width && std::abs(other.y - at.y) < 2.2 * size;
            }))
          best = &piece, least = off;
      }
      if (!best) continue;
      taken.push_back(best->first);
      canvas.label(best->first + Point2{4, 0}, fmt::format("{:.3g}", level), {1, 1, 1}, size);
    }
  }
  const double bar = 0.25 * width, left = 0.04 * width, foot = 0.95 * height;
  for (int k = 0; k < 50; ++k)
    canvas.patch({left + bar * k / 50, foot}, bar / 50 + 1, 0.018 * height, heat(k / 49.0));
  canvas.box({left, foot}, bar, 0.018 * height, {1, 1, 1}, Stroke::solid);
  canvas.label({left, foot - 2.2 * size}, fmt::format("{:.3g} mm", low), {1, 1, 1}, size);
  canvas.label({left + bar - 5 * size, foot - 2.2 * size}, fmt::format("{:.3g} mm", high), {1, 1, 1}, size);
  canvas.label(
      {6, 6},
      fmt::format("sigma of a place on the plane, mm; dots: the {} points it was made from", points.size()),
      {1, 1, 1}, size + 2);
  return canvas.image();
}

}  // namespace heron
