#include "grey_model.hpp"

#include <algorithm>
#include <cmath>

#include "grey_blur.hpp"

namespace heron {
namespace {

/// Coefficients of the cubic spline through `line`, mirrored at its ends (Unser, Aldroubi, Eden, B-spline
/// signal processing, IEEE Trans. Signal Processing 41, 1993).
void spline_filter(std::vector<double>& line) {
  const size_t n = line.size();
  if (n < 2) return;
  const double pole = std::sqrt(3.0) - 2;
  double first = 0, power = 1;
  for (size_t i = 0; i < std::min<size_t>(n, 28); ++i) first += power * line[i], power *= pole;
  line[0] = first;
  for (size_t i = 1; i < n; ++i) line[i] += pole * line[i - 1];
  line[n - 1] = pole / (pole * pole - 1) * (line[n - 1] + pole * line[n - 2]);
  for (size_t i = n - 1; i-- > 0;) line[i] = pole * (line[i + 1] - line[i]);
  for (double& v : line) v *= 6;
}

Image<float> spline_coefficients(const Image<uint8_t>& picture) {
  Image<float> c(picture.width(), picture.height());
  std::vector<double> line(static_cast<size_t>(picture.width()));
  for (int y = 0; y < c.height(); ++y) {
    for (int x = 0; x < c.width(); ++x) line[static_cast<size_t>(x)] = picture(x, y);
    spline_filter(line);
    for (int x = 0; x < c.width(); ++x) c(x, y) = static_cast<float>(line[static_cast<size_t>(x)]);
  }
  line.resize(static_cast<size_t>(picture.height()));
  for (int x = 0; x < c.width(); ++x) {
    for (int y = 0; y < c.height(); ++y) line[static_cast<size_t>(y)] = static_cast<double>(c(x, y));
    spline_filter(line);
    for (int y = 0; y < c.height(); ++y) c(x, y) = static_cast<float>(line[static_cast<size_t>(y)]);
  }
  return c;
}

/// Whether all pixels within `reach` of (x, y) count.
bool clear_of_mask(const Image<uint8_t>& mask, int x, int y, int reach) {
  for (int v = -reach; v <= reach; ++v)
    for (int u = -reach; u <= reach; ++u)
      if (!mask.view().holds(x + u, y + v) || !mask(x + u, y + v)) return false;
  return true;
}

}  // namespace

GreyModel grey_model(const Image<uint8_t>& filled, const Image<uint8_t>& mask, Point2 origin,
                     const std::vector<TaughtEdge>& edges, double noise_sigma) {
  constexpr double beside = 1.5;  // pixels from an edge; beyond, a blurred step tells hardly more
  constexpr int reach = 2, spline_reach = 3;
  GreyModel model{spline_coefficients(filled), {},     {beside + 0.1, {}, {}, {}},
                  {0.7, {}, {}, {}},           origin, noise_sigma};
  blur(model.coefficients, softer_by, model.softer);
  const auto add = [&](GreySpots& spots, Point2 at, size_t edge) {
    spots.x.push_back(static_cast<float>(at.x - origin.x)),
        spots.y.push_back(static_cast<float>(at.y - origin.y));
    spots.edge.push_back(static_cast<int32_t>(edge));
  };
  // Spots overlap: every other edge of a chain is enough.
  Image<uint8_t> with_spot(filled.width(), filled.height()), added(filled.width(), filled.height());
  for (size_t i = 0; i < edges.size(); ++i) {
    const Point2 at = edges[i].place + origin;
    const int x0 = static_cast<int>(std::lround(at.x)), y0 = static_cast<int>(std::lround(at.y));
    if (clear_of_mask(mask, x0, y0, reach + spline_reach)) {
      const auto spotted = [&](int u, int v) { return with_spot(x0 + u, y0 + v) > 0; };
      if (spotted(-1, 0) || spotted(1, 0) || spotted(0, -1) || spotted(0, 1)) continue;
      with_spot(x0, y0) = 1;
      add(model.around_edges, at, i);
      continue;
    }
    for (int y = y0 - reach; y <= y0 + reach; ++y)
      for (int x = x0 - reach; x <= x0 + reach; ++x) {
        const Point2 pixel{static_cast<double>(x), static_cast<double>(y)};
        if (distance(at, pixel) > beside || !clear_of_mask(mask, x, y, spline_reach) || added(x, y)) continue;
        added(x, y) = 1;
        add(model.single_pixels, pixel, i);
      }
  }
  return model;
}

}  // namespace heron
