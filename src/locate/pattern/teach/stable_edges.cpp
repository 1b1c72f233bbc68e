#include <fmt/format.h>

#include "heron/locate/prepared_picture.hpp"
#include "heron/locate/teaching.hpp"

namespace heron {
namespace {

constexpr double together = 3;  // pixels within which edges are judged together

/// Mean over the edges nearby, each of which may be missed by chance.
std::vector<double> evened(const std::vector<TaughtEdge>& edges, const std::vector<double>& shares) {
  std::vector<double> result(edges.size());
  for (size_t i = 0; i < edges.size(); ++i) {
    double sum = 0;
    int count = 0;
    for (size_t k = 0; k < edges.size(); ++k)
      if (distance(edges[i].place, edges[k].place) <= together) sum += shares[k], ++count;
    result[i] = sum / count;
  }
  return result;
}

/// The mask without the pixels to which an edge that is not kept is the nearest.
Image<uint8_t> mask_of(const PatternTarget& target, const std::vector<bool>& kept) {
  Image<uint8_t> mask(target.mask());
  Image<float> nearest(mask.width(), mask.height());
  constexpr double reach = 3.5;
  for (int y = 0; y < mask.height(); ++y)
    for (int x = 0; x < mask.width(); ++x) nearest(x, y) = reach;
  const std::vector<TaughtEdge>& edges = target.edges();
  for (size_t i = 0; i < edges.size(); ++i) {
    const Point2 at = edges[i].place + target.origin();
    for (int y = static_cast<int>(std::ceil(at.y - reach)); y <= at.y + reach; ++y)
      for (int x = static_cast<int>(std::ceil(at.x - reach)); x <= at.x + reach; ++x) {
        if (!mask.view().holds(x, y) || !target.mask()(x, y)) continue;
        const auto far = static_cast<float>(distance(at, {static_cast<double>(x), static_cast<double>(y)}));
        if (far >= nearest(x, y)) continue;
        nearest(x, y) = far;
        mask(x, y) = kept[i] ? 255 : 0;
      }
  }
  return mask;
}

}  // namespace

StableTarget keep_stable_edges(const PatternTarget& target,
                               const std::vector<const PreparedPicture*>& pictures, double min_share) {
  if (!(min_share > 0 && min_share <= 1))
    fail_argument(fmt::format("teach: stable share {} must be above 0 and at most 1", min_share));
  const std::vector<TaughtEdge>& edges = target.edges();
  std::vector<double> shares(edges.size(), 0.0);
  std::vector<size_t> not_found;
  int used = 0;
  for (size_t i = 0; i < pictures.size(); ++i) {
    FindOptions options = target.settings().options;
    options.max_count = 1, options.min_score = std::min(options.min_score, 35.0);
    const FindResult f = find(target, *pictures[i], options, Explain::never);
    if (f.detections.empty()) {
      not_found.push_back(i);
      continue;
    }
    ++used;
    for (size_t k = 0; k < edges.size(); ++k) shares[k] += f.detections[0].edges[k].weight > 0.3f;
  }
  if (used == 0)
    fail_argument(fmt::format(
        "teach: the part is found in none of the {} further pictures; do they show it, at the angles and "
        "scales that are taught?",
        pictures.size()));
  for (double& share : shares) share /= used;
  const std::vector<double> even = evened(edges, shares);
  std::vector<bool> kept;
  for (const double share : even) kept.push_back(share >= min_share);
  return {PatternTarget(Image<uint8_t>(target.pixels()), mask_of(target, kept), target.origin(),
                        target.settings()),
          used, std::move(not_found), edges.size()};
}

}  // namespace heron
