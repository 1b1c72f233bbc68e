#include "teach_edges.hpp"

#include <array>
#include <limits>
#include <optional>

#include "heron/image/components.hpp"
#include "heron/image/gradient.hpp"
#include "locate/common/spline.hpp"
#include "locate/edge_samples/edge_profile.hpp"

namespace heron {
namespace {

/// Larger than both neighbours across the edge (ties go to the first), along the nearest of four directions.
bool is_ridge(const Gradients& g, int x, int y) {
  static constexpr std::array<std::array<int, 2>, 4> steps{{{1, 0}, {1, 1}, {0, 1}, {-1, 1}}};
  const auto& step = steps[static_cast<size_t>(((g.direction(x, y) + 16) >> 5) & 3)];
  const int here = g.size(x, y);
  return here > g.size(x + step[0], y + step[1]) && here >= g.size(x - step[0], y - step[1]);
}

/// Direction of the gradient from real differences, finer than the byte of `Gradients`.
Point2 gradient_direction(const Image<uint8_t>& p, int x, int y) {
  const double gx = p(x + 1, y - 1) + 2.0 * p(x + 1, y) + p(x + 1, y + 1) - p(x - 1, y - 1) -
                    2.0 * p(x - 1, y) - p(x - 1, y + 1);
  const double gy = p(x - 1, y + 1) + 2.0 * p(x, y + 1) + p(x + 1, y + 1) - p(x - 1, y - 1) -
                    2.0 * p(x, y - 1) - p(x + 1, y - 1);
  const double length = std::hypot(gx, gy);
  return length > 0 ? Point2{gx / length, gy / length} : Point2{1, 0};
}

/// Keeps chains that are long enough and somewhere reach the full strength.
Image<uint8_t> linked(const Image<uint8_t>& ridge, int min_chain) {
  Image<uint8_t> keep(ridge.width(), ridge.height());
  Image<uint8_t> seen(ridge.width(), ridge.height());
  std::vector<std::array<int, 2>> chain;
  for (int y0 = 0; y0 < ridge.height(); ++y0)
    for (int x0 = 0; x0 < ridge.width(); ++x0) {
      if (!ridge(x0, y0) || seen(x0, y0)) continue;
      chain.assign(1, {x0, y0});
      seen(x0, y0) = 1;
      bool strong = false;
      for (size_t i = 0; i < chain.size(); ++i) {
        const auto [x, y] = chain[i];
        strong = strong || ridge(x, y) == 2;
        for (int v = -1; v <= 1; ++v)
          for (int u = -1; u <= 1; ++u)
            if (ridge.view().holds(x + u, y + v) && ridge(x + u, y + v) && !seen(x + u, y + v)) {
              seen(x + u, y + v) = 1;
              chain.push_back({x + u, y + v});
            }
      }
      if (strong && static_cast<int>(chain.size()) >= min_chain)
        for (const auto& [x, y] : chain) keep(x, y) = 1;
    }
  return keep;
}

/// Where the edge of a ridge's pixel lies, within a pixel of it. Along edges of some directions all scans
/// read between pixels at the same places, and what linear interpolation errs there does not even out (0.17
/// pixels at 45 degrees), so the grey values are the spline's, read about where the edge was found last.
std::optional<Point2> place_on_edge(const Image<float>& spline, Point2 at, Point2 normal) {
  double offset = 0;
  for (const int reach : {1, 2, 2}) {
    ProfileValues values{};
    for (int k = -reach - 1; k <= reach + 1; ++k)
      values[static_cast<size_t>(k + reach + 1)] = spline_value(spline, at + normal * (offset + k));
    const Rising rising = strongest_rise(values, reach);
    if (rising.contrast <= 0 || std::abs(offset + rising.offset) > 1) return std::nullopt;
    offset += rising.offset;
  }
  return at + normal * offset;
}

/// As a search of a coarse level meets it. Edges lie so near each other there that linear interpolation moves
/// them, and both must err alike for faint ones to be met.
std::optional<Point2> place_as_searched(const Image<uint8_t>& picture, Point2 at, Point2 normal) {
  const EdgeMet met = meet_edge(picture, at, normal, 1, 0);
  if (!met.met || std::abs(met.offset) > 1) return std::nullopt;
  return at + normal * met.offset;
}

}  // namespace

Image<uint8_t> filled_under_mask(const Image<uint8_t>& pixels, const Image<uint8_t>& mask) {
  const int w = pixels.width(), h = pixels.height();
  Image<uint8_t> filled(w, h), known(w, h);
  std::vector<std::array<int, 2>> front;
  for (int y = 0; y < h; ++y)
    for (int x = 0; x < w; ++x)
      if (mask(x, y)) {
        filled(x, y) = pixels(x, y), known(x, y) = 1;
        front.push_back({x, y});
      }
  for (size_t i = 0; i < front.size(); ++i) {  // breadth first: the value of the nearest known pixel spreads
    const auto [x, y] = front[i];
    static constexpr std::array<std::array<int, 2>, 4> steps{{{1, 0}, {-1, 0}, {0, 1}, {0, -1}}};
    for (const auto& step : steps) {
      const int u = x + step[0], v = y + step[1];
      if (!known.view().holds(u, v) || known(u, v)) continue;
      known(u, v) = 1, filled(u, v) = filled(x, y);
      front.push_back({u, v});
    }
  }
  return filled;
}

double chosen_strength(const Image<uint8_t>& pixels, const Image<uint8_t>& mask, double noise_sigma) {
  const Gradients g = gradients(pixels);
  std::array<int, 256> counts{};
  int total = 0;
  for (int y = 0; y < pixels.height(); ++y)
    for (int x = 0; x < pixels.width(); ++x)
      if (mask(x, y)) ++counts[g.size(x, y)], ++total;
  int above = 0, strongest = 255;
  while (strongest > 0 && (above += counts[static_cast<size_t>(strongest)]) * 100 < total) --strongest;
  return std::max({8.0, 6 * 0.87 * noise_sigma, 0.2 * strongest});
}

std::vector<TaughtEdge> edges_of(const Image<uint8_t>& picture, int level, double strength, int min_chain) {
  std::vector<TaughtEdge> edges;
  if (picture.width() < 5 || picture.height() < 5) return edges;
  const Gradients g = gradients(picture);
  Image<uint8_t> ridge(picture.width(), picture.height());
  for (int y = 2; y + 2 < picture.height(); ++y)
    for (int x = 2; x + 2 < picture.width(); ++x)
      if (g.size(x, y) >= 0.5 * strength && is_ridge(g, x, y)) ridge(x, y) = g.size(x, y) >= strength ? 2 : 1;
  const Image<uint8_t> keep = linked(ridge, min_chain);
  const Image<float> spline = level == 0 ? spline_coefficients(picture) : Image<float>();
  for (int y = 2; y + 2 < picture.height(); ++y)
    for (int x = 2; x + 2 < picture.width(); ++x) {
      if (!keep(x, y)) continue;
      const Point2 at{static_cast<double>(x), static_cast<double>(y)},
          normal = gradient_direction(picture, x, y);
      const auto there =
          level == 0 ? place_on_edge(spline, at, normal) : place_as_searched(picture, at, normal);
      if (there) edges.push_back({*there, normal});
    }
  return edges;
}

}  // namespace heron
