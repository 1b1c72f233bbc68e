#include <array>

#include "heron/feature/board_points.hpp"
#include "heron/image/pyramid.hpp"
#include "heron/image/sample.hpp"
#include "heron/image/smooth.hpp"
#include "saddle_sums.hpp"

namespace heron {
namespace {

Image<float> saddle_response(const Image<float>& p) {
  Image<float> response(p.width(), p.height());
  for (int y = 1; y + 1 < p.height(); ++y) {
    const float *up = p.row(y - 1), *mid = p.row(y), *down = p.row(y + 1);
    float* __restrict out = response.row(y);
    for (int x = 1; x + 1 < p.width(); ++x) {
      const float xx = mid[x + 1] - 2 * mid[x] + mid[x - 1], yy = down[x] - 2 * mid[x] + up[x];
      const float xy = 0.25f * (down[x + 1] - down[x - 1] - up[x + 1] + up[x - 1]);
      // Along an edge noise makes saddles as well, but one curvature is far larger there than the other.
      const float saddle = xy * xy - xx * yy, sum = xx + yy, least = 0.06f * sum * sum;
      out[x] = saddle > least ? saddle : 0.0f;
    }
  }
  return response;
}

bool is_peak(const Image<float>& response, int x, int y, int reach) {
  const float here = response(x, y);
  for (int v = -reach; v <= reach; ++v)
    for (int u = -reach; u <= reach; ++u) {
      const float other = response(x + u, y + v);
      if (other > here || (other == here && (v < 0 || (v == 0 && u < 0)))) return false;
    }
  return true;
}

constexpr int ring_samples = 32;
/// Made once.
struct Directions {
  std::array<Point2, ring_samples> at;
  Directions() {
    for (int k = 0; k < ring_samples; ++k)
      at[static_cast<size_t>(k)] = unit(degrees(360.0 * k / ring_samples));
  }
};

/// Around a crossing of two edges brightness changes sides four times, and opposite points are alike.
bool has_four_quarters(const Image<float>& p, Point2 at, double radius) {
  static const Directions directions;
  constexpr int count = ring_samples;
  if (!can_sample(p.view(), at.x - radius, at.y - radius) ||
      !can_sample(p.view(), at.x + radius, at.y + radius))
    return false;
  std::array<double, count> ring{};
  double low = 1e9, high = -1e9;
  for (const int stride : {4, 1}) {
    for (int k = 0; k < count; k += stride) {
      if (stride == 1 && k % 4 == 0) continue;
      const Point2 q = at + directions.at[static_cast<size_t>(k)] * radius;
      const double v = bilinear(ImageView<const float>(p), q.x, q.y);
      ring[static_cast<size_t>(k)] = v;
      low = std::min(low, v), high = std::max(high, v);
    }
    if (high - low < 7) return false;
  }
  const double middle = 0.5 * (low + high), contrast = high - low;
  if (contrast < 8) return false;
  int changes = 0;
  double unlike = 0;
  for (int k = 0; k < count; ++k) {
    const double a = ring[static_cast<size_t>(k)], b = ring[static_cast<size_t>((k + 1) % count)];
    if ((a > middle) != (b > middle)) ++changes;
    unlike += std::abs(a - ring[static_cast<size_t>((k + count / 2) % count)]) / count;
  }
  return changes == 4 && unlike < 0.25 * contrast;
}

}  // namespace

std::vector<Point2> find_saddles(const ImageView<const uint8_t>& picture, bool coarse) {
  std::vector<Point2> found;
  constexpr int border = 8;
  if (picture.width() < 4 * border || picture.height() < 4 * border) return found;
  // Half the resolution costs a quarter; second derivatives are four times as large there.
  const Image<float> soft = coarse ? smooth(halve(picture), 0.8) : smooth(picture, 1.5);
  const Image<float> response = coarse ? saddle_response(soft) : saddle_response(smooth(picture, 2.0));
  const int reach = coarse ? 2 : 4;
  const float least = coarse ? 8.0f : 1.0f;
  const double radius = coarse ? 2.5 : 5;
  for (int y = border; y + border < soft.height(); ++y) {
    const float* row = response.row(y);
    for (int x = border; x + border < soft.width(); ++x) {
      if (row[x] < least || !is_peak(response, x, y, reach)) continue;
      const Point2 at{static_cast<double>(x), static_cast<double>(y)};
      if (has_four_quarters(soft, at, radius) || has_four_quarters(soft, at, 1.4 * radius))
        found.push_back(refine_saddle(picture, coarse ? from_level(at, 1) : at, 5));
    }
  }
  return found;
}

Point2 refine_saddle(const ImageView<const uint8_t>& picture, Point2 start, double radius) {
  Point2 at = start;
  for (int round = 0; round < 8; ++round) {
    if (at.x - radius < 1 || at.y - radius < 1 || at.x + radius >= picture.width() - 2 ||
        at.y + radius >= picture.height() - 2)
      return start;
    const SaddleSums s =
        saddle_sums(picture, static_cast<float>(at.x), static_cast<float>(at.y), static_cast<float>(radius));
    const double determinant = static_cast<double>(s.xx) * s.yy - static_cast<double>(s.xy) * s.xy;
    if (!(determinant > 1e-6)) return start;
    const Point2 step{(static_cast<double>(s.yy) * s.bx - static_cast<double>(s.xy) * s.by) / determinant,
                      (static_cast<double>(s.xx) * s.by - static_cast<double>(s.xy) * s.bx) / determinant};
    at += step;
    if (!(distance(at, start) < radius / 2)) return start;
    if (norm(step) < 5e-4) break;
  }
  return at;
}

}  // namespace heron
