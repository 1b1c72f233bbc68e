#include "coarse_search.hpp"

#include <numeric>

#include "heron/image/parallel.hpp"
#include "heron/image/pyramid.hpp"
#include "response_maps.hpp"
#include "sum_rows.hpp"

namespace heron {
namespace {

struct GridPose {
  Angle angle;
  double scale;
};

struct PoseGrid {
  std::vector<GridPose> poses;
  double angle_step = 0;  // radians
  double scale_step = 1;  // ratio
};

/// Steps that move the outer edges by little more than a pixel, which spreading forgives. One step beyond
/// either end of a range, so that a part just outside is seen and can be named as a miss.
PoseGrid pose_grid(const PatternTarget& target, const CoarseSearch& search, int level) {
  double squares = 0;
  for (const TaughtEdge& e : target.coarse_edges()) squares += dot(e.place, e.place);
  const double radius =
      std::max(4.0, 1.3 * std::sqrt(squares / static_cast<double>(target.coarse_edges().size())) *
                        std::ldexp(1.0, -level));
  PoseGrid grid;
  grid.scale_step = 1 + 1.6 / radius;
  std::vector<double> scales{search.scale.min};
  if (search.scale.max > search.scale.min) {
    const int steps = std::max(1, static_cast<int>(std::ceil(std::log(search.scale.max / search.scale.min) /
                                                             std::log(grid.scale_step))));
    scales.clear();
    for (int i = 0; i <= steps; ++i)
      scales.push_back(search.scale.min *
                       std::pow(search.scale.max / search.scale.min, static_cast<double>(i) / steps));
  }
  for (double scale : scales) {
    if (!target.has_angle()) {
      grid.poses.push_back({radians(0), scale});
      continue;
    }
    const double turn = 2 * std::numbers::pi,
                 width = std::min(turn, search.angle.max.radians() - search.angle.min.radians());
    const double wanted = 1.6 / (radius * std::max(scale, 0.25));
    const bool whole = width > turn - wanted;
    const int steps = std::max(1, static_cast<int>(std::ceil((whole ? turn : width) / wanted)));
    const double step = width > 0 ? (whole ? turn : width) / steps : wanted;
    grid.angle_step = std::max(grid.angle_step, step);
    const int first = whole ? 0 : -1, last = whole ? steps - 1 : (width > 0 ? steps + 1 : 1);
    for (int i = first; i <= last; ++i) grid.poses.push_back({search.angle.min + radians(i * step), scale});
  }
  return grid;
}

struct PlacedHit {
  RowHit at;
  int pose;
};

/// The window of origin positions on the coarse level, kept inside a picture widened by nothing: an origin
/// lies in the picture or in the asked box.
struct Window {
  int x0, y0, width, height;
};

Window window_of(const Box& origins, int level, int width, int height) {
  const Point2 a = to_level({origins.x, origins.y}, level),
               b = to_level({origins.x + origins.width, origins.y + origins.height}, level);
  const int x0 = std::clamp(static_cast<int>(std::floor(a.x)) - 1, 0, width - 1),
            y0 = std::clamp(static_cast<int>(std::floor(a.y)) - 1, 0, height - 1);
  const int x1 = std::clamp(static_cast<int>(std::ceil(b.x)) + 1, 0, width - 1),
            y1 = std::clamp(static_cast<int>(std::ceil(b.y)) + 1, 0, height - 1);
  return {x0, y0, std::max(0, x1 - x0 + 1), std::max(0, y1 - y0 + 1)};
}

std::vector<PlacedHit> all_hits(const PatternTarget& target, const ResponseMaps& responses,
                                const PoseGrid& grid, const Window& window, int level, uint8_t limit) {
  const std::vector<TaughtEdge>& edges = target.coarse_edges();
  const auto count = static_cast<int>(edges.size());
  const int poses = static_cast<int>(grid.poses.size()), chunk = 4;
  std::vector<std::vector<PlacedHit>> by_chunk(static_cast<size_t>((poses + chunk - 1) / chunk));
  parallel_rows(poses, chunk, [&](int first, int end) {
    std::vector<const uint8_t*> features(edges.size());
    std::vector<RowHit> rows;
    for (int pose = first; pose < end; ++pose) {
      const GridPose& p = grid.poses[static_cast<size_t>(pose)];
      const double to = p.scale * std::ldexp(1.0, -level), c = cos(p.angle), s = sin(p.angle);
      std::ptrdiff_t stride = 0;
      for (size_t k = 0; k < edges.size(); ++k) {
        const TaughtEdge& e = edges[k];
        const auto dx = static_cast<int>(std::lround(to * (c * e.place.x - s * e.place.y)));
        const auto dy = static_cast<int>(std::lround(to * (s * e.place.x + c * e.place.y)));
        const double turned =
            direction({c * e.normal.x - s * e.normal.y, s * e.normal.x + c * e.normal.y}).radians() * 128 /
            std::numbers::pi;
        const Image<uint8_t>& map =
            responses.maps[static_cast<size_t>(direction_step(static_cast<int>(std::lround(turned)) & 255))];
        stride = map.stride();
        features[k] = map.row(responses.pad + window.y0 + dy) + responses.pad + window.x0 + dx;
      }
      rows.clear();
      sum_rows(features.data(), count, best_response, stride, window.width, window.height, limit, rows);
      for (const RowHit& hit : rows) by_chunk[static_cast<size_t>(first / chunk)].push_back({hit, pose});
    }
  });
  std::vector<PlacedHit> hits;
  for (const auto& part : by_chunk) hits.insert(hits.end(), part.begin(), part.end());
  return hits;
}

/// Best first; a hit next to a better one in place, angle and scale is left out.
std::vector<PlacedHit> local_best(std::vector<PlacedHit> hits, const PoseGrid& grid, size_t most) {
  const auto better = [](const PlacedHit& a, const PlacedHit& b) {
    if (a.at.sum != b.at.sum) return a.at.sum > b.at.sum;
    if (a.pose != b.pose) return a.pose < b.pose;
    return a.at.y != b.at.y ? a.at.y < b.at.y : a.at.x < b.at.x;
  };
  constexpr size_t most_looked_at = 40000;
  if (hits.size() > most_looked_at) {
    std::nth_element(hits.begin(), hits.begin() + most_looked_at, hits.end(), better);
    hits.resize(most_looked_at);
  }
  std::sort(hits.begin(), hits.end(), better);
  std::vector<PlacedHit> kept;
  for (const PlacedHit& hit : hits) {
    const GridPose& a = grid.poses[static_cast<size_t>(hit.pose)];
    const bool covered = std::any_of(kept.begin(), kept.end(), [&](const PlacedHit& k) {
      if (std::abs(k.at.x - hit.at.x) > 2 || std::abs(k.at.y - hit.at.y) > 2) return false;
      const GridPose& b = grid.poses[static_cast<size_t>(k.pose)];
      return std::abs((a.angle - b.angle).wrapped().radians()) < 2.5 * grid.angle_step + 1e-9 &&
             std::abs(std::log(a.scale / b.scale)) < 1.5 * std::log(grid.scale_step);
    });
    if (!covered) kept.push_back(hit);
    if (kept.size() == most) break;
  }
  return kept;
}

}  // namespace

int coarse_level(const PatternTarget& target) { return static_cast<int>(target.levels().size()) - 1; }

std::vector<CoarseHit> coarse_search(const PatternTarget& target, const Survey& survey,
                                     const CoarseSearch& search) {
  const int level = coarse_level(target);
  if (level >= survey.level_count()) return {};
  const Image<uint8_t>& picture = survey.level(level);
  double radius = 0;
  for (const TaughtEdge& e : target.coarse_edges()) radius = std::max(radius, norm(e.place));
  const int pad = static_cast<int>(std::ceil(radius * search.scale.max * std::ldexp(1.0, -level))) + 2;
  // Far above the noise, and low enough for thin structure that a coarse level has blurred.
  const double least = std::max({3.0, 0.7 * search.least_contrast, 4 * 0.87 * survey.noise_sigma(level)});
  const ResponseMaps responses =
      response_maps(survey.gradients(level), static_cast<int>(std::lround(least)), pad);

  const PoseGrid grid = pose_grid(target, search, level);
  const Window window = window_of(search.origins, level, picture.width(), picture.height());
  const double full = static_cast<double>(best_response) * static_cast<double>(target.coarse_edges().size());
  const auto limit = static_cast<uint8_t>(std::clamp(std::ceil(search.least_likeness * full), 1.0, full));
  const std::vector<PlacedHit> kept = local_best(all_hits(target, responses, grid, window, level, limit),
                                                 grid, static_cast<size_t>(search.most_hits));

  std::vector<CoarseHit> result;
  for (const PlacedHit& hit : kept) {
    const GridPose& pose = grid.poses[static_cast<size_t>(hit.pose)];
    const Point2 p{static_cast<double>(hit.at.x + window.x0), static_cast<double>(hit.at.y + window.y0)};
    result.push_back({from_level(p, level), pose.angle.wrapped(), pose.scale, hit.at.sum / full});
  }
  return result;
}

}  // namespace heron
