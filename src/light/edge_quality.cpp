#include "edge_quality.hpp"

#include <algorithm>
#include <array>
#include <cmath>
#include <optional>

#include "heron/base/point.hpp"
#include "heron/image/sample.hpp"

namespace heron {
namespace {

constexpr int cell = 24, window_reach = 10;

Point2 gradient_at(const ImageView<const uint8_t>& p, int x, int y) {
  return {0.5 * (p(x + 1, y) - p(x - 1, y)), 0.5 * (p(x, y + 1) - p(x, y - 1))};
}

/// Where a rising profile first passes `level`, by linear interpolation; the profile is sampled at half
/// pixels.
std::optional<double> crossing(const std::array<double, 4 * window_reach + 1>& profile, double level) {
  for (size_t i = 1; i < profile.size(); ++i)
    if (profile[i - 1] < level && profile[i] >= level)
      return 0.5 * (static_cast<double>(i) - 1 + (level - profile[i - 1]) / (profile[i] - profile[i - 1]));
  return std::nullopt;
}

std::optional<EdgeQuality> measured(const ImageView<const uint8_t>& picture, Point2 at, Point2 gradient,
                                    double noise) {
  const Point2 normal = gradient / norm(gradient), along{-normal.y, normal.x};
  std::array<double, 4 * window_reach + 1> profile{};
  for (int i = 0; i < 4 * window_reach + 1; ++i) {
    // Five neighbours along the edge lower the noise.
    for (int k = -2; k <= 2; ++k) {
      const Point2 p = at + normal * (0.5 * i - window_reach) + along * k;
      if (!can_sample(picture, p.x, p.y)) return std::nullopt;
      profile[static_cast<size_t>(i)] += 0.2 * bilinear(picture, p.x, p.y);
    }
  }
  const auto mean = [&](int first, int count) {
    double sum = 0;
    for (int i = first; i < first + count; ++i) sum += profile[static_cast<size_t>(i)] / count;
    return sum;
  };
  // The plateaus nearest to the edge that are flat; blur needs them further out.
  const auto [low, high] = std::minmax_element(profile.begin() + window_reach, profile.end() - window_reach);
  EdgeQuality edge;
  edge.step = *high - *low;
  if (edge.step < std::max(8.0, 4 * noise)) return std::nullopt;
  const double dark = mean(0, 8), bright = mean(4 * window_reach - 7, 8);
  const bool isolated =
      bright - dark > 0.85 * edge.step && std::abs(mean(0, 4) - mean(4, 4)) < 0.08 * edge.step &&
      std::abs(mean(4 * window_reach - 7, 4) - mean(4 * window_reach - 3, 4)) < 0.08 * edge.step;
  if (!isolated) return edge;
  edge.step = bright - dark;
  const auto from = crossing(profile, dark + 0.1 * edge.step), to = crossing(profile, dark + 0.9 * edge.step);
  if (from && to && *to > *from) edge.width = *to - *from;
  return edge;
}

}  // namespace

std::vector<EdgeQuality> strong_edges(const ImageView<const uint8_t>& picture,
                                      const ImageView<const uint8_t>& mask, double noise) {
  std::vector<EdgeQuality> edges;
  for (int y0 = 1; y0 + 1 < picture.height(); y0 += cell)
    for (int x0 = 1; x0 + 1 < picture.width(); x0 += cell) {
      double best = 0;
      int bx = 0, by = 0;
      for (int y = y0; y < std::min(y0 + cell, picture.height() - 1); ++y)
        for (int x = x0; x < std::min(x0 + cell, picture.width() - 1); ++x) {
          if (!mask(x, y)) continue;
          const Point2 g = gradient_at(picture, x, y);
          if (const double size = dot(g, g); size > best) best = size, bx = x, by = y;
        }
      if (std::sqrt(best) < std::max(2.0, 2.5 * noise)) continue;
      if (const auto edge = measured(picture, {static_cast<double>(bx), static_cast<double>(by)},
                                     gradient_at(picture, bx, by), noise))
        edges.push_back(*edge);
    }
  return edges;
}

}  // namespace heron
