#include "grey_model.hpp"

#include <cmath>

#include "grey_blur.hpp"
#include "locate/common/spline.hpp"

namespace heron {
namespace {

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
  constexpr double beside = 1.5;  // pixels from an edge; a blurred step carries little information beyond
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
