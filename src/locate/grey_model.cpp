#include "grey_model.hpp"

#include <algorithm>
#include <cmath>
#include <numeric>

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

/// For the pixels of which `nearest` names no edge, how far the next one is that has one.
void tell_free_ways(const Image<int32_t>& nearest, Image<uint8_t>& ways) {
  const int w = nearest.width(), h = nearest.height();
  // To the next one, diagonal steps counting as one: never more than the distance.
  Image<int32_t> steps(w, h);
  const auto pass = [&](int x, int y, int back) {
    if (nearest(x, y) > 0) return;
    int32_t least = steps(x, y);
    for (const auto& [u, v] : {std::pair{-1, 0}, {-1, -1}, {0, -1}, {1, -1}})
      if (nearest.view().holds(x + u * back, y + v * back))
        least = std::min(least, steps(x + u * back, y + v * back) + 1);
    steps(x, y) = least;
  };
  for (int y = 0; y < h; ++y)
    for (int x = 0; x < w; ++x) steps(x, y) = nearest(x, y) > 0 ? 0 : w + h;
  for (int y = 0; y < h; ++y)
    for (int x = 0; x < w; ++x) pass(x, y, 1);
  for (int y = h - 1; y >= 0; --y)
    for (int x = w - 1; x >= 0; --x) pass(x, y, -1);
  constexpr double most = GreyModel::beside_edge - 1;
  // The place and the one reached are rounded to their pixels, which takes up to a diagonal.
  for (int y = 0; y < h; ++y)
    for (int x = 0; x < w; ++x)
      ways(x, y) = nearest(x, y) > 0
                       ? GreyModel::beside_edge
                       : static_cast<uint8_t>(std::clamp(8 * (steps(x, y) - 1.4143), 0.0, most));
}

/// Lists the pixels of each edge.
void list_pixels(const Image<int32_t>& nearest, size_t edges, GreyModel& model) {
  model.first_pixel.assign(edges + 1, 0);
  for (const bool counted : {false, true}) {
    if (counted) {
      std::partial_sum(model.first_pixel.begin(), model.first_pixel.end(), model.first_pixel.begin());
      model.pixels.resize(static_cast<size_t>(model.first_pixel.back()));
    }
    // From behind, so that each edge's first is where its pixels begin when all are put down.
    for (int y = nearest.height() - 1; y >= 0; --y)
      for (int x = nearest.width() - 1; x >= 0; --x) {
        if (nearest(x, y) <= 0) continue;
        int32_t& at = model.first_pixel[static_cast<size_t>(nearest(x, y) - 1)];
        if (counted)
          model.pixels[static_cast<size_t>(--at)] = static_cast<int32_t>(y * model.ways.stride() + x);
        else
          ++at;
      }
  }
}

}  // namespace

GreyModel grey_model(const Image<uint8_t>& filled, const Image<uint8_t>& mask, Point2 origin,
                     const std::vector<TaughtEdge>& edges, double noise_sigma) {
  constexpr double beside = 2.0;  // pixels from an edge; beyond, a blurred step has no slope left
  constexpr int spline_reach = 3;
  GreyModel model{spline_coefficients(filled),
                  Image<uint8_t>(filled.width(), filled.height()),
                  {},
                  {},
                  origin,
                  noise_sigma};
  Image<int32_t> nearest(filled.width(), filled.height());  // edge and one; 0 where none is near
  Image<float> distances(filled.width(), filled.height());
  for (size_t i = 0; i < edges.size(); ++i) {
    const Point2 at = edges[i].place + origin;
    const int x0 = static_cast<int>(std::ceil(at.x - beside)),
              x1 = static_cast<int>(std::floor(at.x + beside));
    const int y0 = static_cast<int>(std::ceil(at.y - beside)),
              y1 = static_cast<int>(std::floor(at.y + beside));
    for (int y = y0; y <= y1; ++y)
      for (int x = x0; x <= x1; ++x) {
        const double far = distance(at, {static_cast<double>(x), static_cast<double>(y)});
        if (far > beside || !mask.view().holds(x, y)) continue;
        if (nearest(x, y) > 0 && static_cast<double>(distances(x, y)) <= far) continue;
        if (!nearest(x, y) && !clear_of_mask(mask, x, y, spline_reach)) continue;
        nearest(x, y) = static_cast<int32_t>(i) + 1;
        distances(x, y) = static_cast<float>(far);
      }
  }
  tell_free_ways(nearest, model.ways);
  list_pixels(nearest, edges.size(), model);
  return model;
}

}  // namespace heron
