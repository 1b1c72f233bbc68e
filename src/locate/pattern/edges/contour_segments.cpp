#include "contour_segments.hpp"

#include <algorithm>
#include <cmath>

namespace heron {

ContourSegments::ContourSegments(const std::vector<TaughtEdge>& edges, const Box& extent)
    : near_by_(0.4 * std::sqrt(std::max(1.0, extent.width * extent.height))) {
  std::vector<double> nearest(edges.size(), 2);
  for (size_t farthest = 0; !edges.empty() && nearest[farthest] > 1;) {
    firsts_.push_back(edges[farthest]);
    for (size_t i = 0; i < edges.size(); ++i)
      nearest[i] = std::min(nearest[i], far_from(firsts_.back(), edges[i]));
    farthest = static_cast<size_t>(std::max_element(nearest.begin(), nearest.end()) - nearest.begin());
  }
}

/// 1 at the distance, or at the 60 degrees between their normals, that set edges of one stretch apart.
double ContourSegments::far_from(const TaughtEdge& a, const TaughtEdge& b) const {
  const Point2 apart = (a.place - b.place) / near_by_, turned = a.normal - b.normal;
  return dot(apart, apart) + dot(turned, turned);
}

int ContourSegments::of(const TaughtEdge& edge) const {
  const auto nearest = std::min_element(
      firsts_.begin(), firsts_.end(),
      [&](const TaughtEdge& a, const TaughtEdge& b) { return far_from(a, edge) < far_from(b, edge); });
  return static_cast<int>(nearest - firsts_.begin());
}

std::vector<int> ContourSegments::sort(std::vector<TaughtEdge>& edges) const {
  std::stable_sort(edges.begin(), edges.end(),
                   [&](const TaughtEdge& a, const TaughtEdge& b) { return of(a) < of(b); });
  std::vector<int> ends;
  for (size_t k = 1; k <= edges.size(); ++k)
    if (k == edges.size() || of(edges[k]) != of(edges[k - 1])) ends.push_back(static_cast<int>(k));
  return ends;
}

void keep_better_sign(const EdgeColumns& edges, const EdgeSamples& falling, int reach, EdgeSamples& met) {
  thread_local std::vector<double> more;  // is seen rising than falling, of each stretch
  more.assign(static_cast<size_t>(edges.segments), 0);
  const auto seen = [&](const EdgeSamples& of, size_t i) {
    return aligned(of, i) ? 1 - std::abs(static_cast<double>(of.offset[i])) / (reach + 1.0) : 0;
  };
  for (size_t i = 0; i < edges.count; ++i)
    more[static_cast<size_t>(edges.segment[i])] += seen(met, i) - seen(falling, i);
  for (size_t i = 0; i < edges.count; ++i)
    if (more[static_cast<size_t>(edges.segment[i])] < 0)
      met.offset[i] = falling.offset[i], met.contrast[i] = falling.contrast[i],
      met.cosine[i] = falling.cosine[i];
}

}  // namespace heron
