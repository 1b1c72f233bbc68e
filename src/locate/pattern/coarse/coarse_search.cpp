#include "coarse_search.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "heron/base/error.hpp"
#include "heron/image/pyramid.hpp"
#include "image/parallel.hpp"
#include "locate/pattern/model/part_size.hpp"
#include "response_maps.hpp"
#include "sum_rows.hpp"

namespace heron {
namespace {

/// How far the outer edges lie from the origin, in pixels of a level on which one of its pixels is `pixel` of
/// the taught picture.
double coarse_radius(const CoarseEdges& coarse, double pixel) {
  double squares = 0;
  for (const TaughtEdge& e : coarse.edges) squares += dot(e.place, e.place);
  return std::max(4.0, 1.3 * std::sqrt(squares / static_cast<double>(coarse.edges.size())) / pixel);
}

constexpr double step_px = 2;

/// Steps that move the outer edges by about two pixels: an edge is then hardly more than one pixel off, which
/// spreading forgives, by angle and as much by scale. One step beyond either end of a range, so that a part
/// just outside is seen and can be named as a miss.
PoseGrid pose_grid(const CoarseEdges& coarse, const CoarseSearch& search, bool has_angle) {
  const double radius = coarse_radius(coarse, std::ldexp(1.0, search.level - search.octave));
  PoseGrid grid;
  std::vector<double> scales{search.scale.min};
  if (search.scale.max > search.scale.min) {
    const int steps = std::max(1, static_cast<int>(std::ceil(std::log(search.scale.max / search.scale.min) /
                                                             std::log(1 + step_px / radius))));
    scales.clear();
    for (int i = 0; i <= steps; ++i)
      scales.push_back(search.scale.min *
                       std::pow(search.scale.max / search.scale.min, static_cast<double>(i) / steps));
  }
  for (double scale : scales) {
    const int before = static_cast<int>(grid.poses.size());
    if (!has_angle) {
      grid.poses.push_back({radians(0), scale});
      grid.turns.push_back({before, 1, scale, 0, 1});
      continue;
    }
    const double turn = 2 * std::numbers::pi,
                 width = std::min(turn, search.angle.max.radians() - search.angle.min.radians());
    const double wanted = step_px / (radius * std::max(std::ldexp(scale, -search.octave), 0.25));
    const bool whole = width > turn - wanted;
    const int steps = std::max(1, static_cast<int>(std::ceil((whole ? turn : width) / wanted)));
    const double step = width > 0 ? (whole ? turn : width) / steps : wanted;
    grid.angle_step = std::max(grid.angle_step, step);
    const int first = whole ? 0 : -1, last = whole ? steps - 1 : (width > 0 ? steps + 1 : 1);
    for (int i = first; i <= last; ++i) grid.poses.push_back({search.angle.min + radians(i * step), scale});
    grid.turns.push_back({before, last - first + 1, scale, search.angle.min.radians() + first * step, step});
  }
  return grid;
}

/// A picture may answer everywhere; more than so many hits, of a pose in a band and of them all, are never
/// kept.
constexpr size_t max_hits_of_pose = 250, max_hits = 32000;

/// Kept inside a picture widened by nothing: an origin lies in the picture or in the asked box.
CoarseWindow window_of(const Box& origins, int level, int width, int height) {
  const Point2 a = to_level({origins.x, origins.y}, level),
               b = to_level({origins.x + origins.width, origins.y + origins.height}, level);
  // Clamped before they become whole numbers: a box may reach as far as a double does.
  const auto within = [](double v, int size) { return static_cast<int>(std::clamp(v, 0.0, size - 1.0)); };
  const int x0 = within(std::floor(a.x) - 1, width), y0 = within(std::floor(a.y) - 1, height),
            x1 = within(std::ceil(b.x) + 1, width), y1 = within(std::ceil(b.y) + 1, height);
  return {x0, y0, std::max(0, x1 - x0 + 1), std::max(0, y1 - y0 + 1)};
}

/// Where a sum must stand on its way to `limit`. The edges come in an order that covers the part evenly from
/// the first few on, so a part of the sum foretells the whole; full effort gives up only what is lost.
std::array<SumCheck, sum_checks> checks_for(const CoarseEdges& coarse, int limit, double effort) {
  const int count = static_cast<int>(coarse.edges.size());
  const auto after = [&](int some) {
    const int k =
        coarse.ends.empty() ? some : *std::lower_bound(coarse.ends.begin(), coarse.ends.end(), some);
    const double share = static_cast<double>(k) / count, rest = best_response * (count - k);
    const double scatter = 1.9 * std::sqrt(k * (1 - share));  // of a sum of k responses drawn from them all
    const double least = effort >= 1 ? limit - rest : limit * share - (1.8 + effort) * scatter;
    return SumCheck{k, static_cast<uint8_t>(std::max(0.0, std::floor(least)))};
  };
  return {after(count / 4), after(count / 2), SumCheck{count, static_cast<uint8_t>(limit)}};
}

/// The rows of origins that one set of response maps serves.
struct Band {
  int first, rows;
};

/// What all bands of a search have in common.
struct BandSearch {
  const CoarseEdges& coarse;
  const PoseGrid& grid;
  const CoarseWindow& window;
  const CoarseSearch& search;
  const std::array<SumCheck, sum_checks>& checks;
};

/// The hits of a band, in a list for each pose.
HitLists hits_in(const Band& band, const ResponseMaps& responses, const BandSearch& shared, Work* work) {
  const CoarseEdges& coarse = shared.coarse;
  const PoseGrid& grid = shared.grid;
  const CoarseWindow& window = shared.window;
  const CoarseSearch& search = shared.search;
  const std::vector<TaughtEdge>& edges = coarse.edges;
  const double to_level = std::ldexp(1.0, -search.level);
  const double turn_by = search.polarity == Polarity::inverted ? 128 : 0;  // of the normals, in 256ths
  const int poses = static_cast<int>(grid.poses.size());
  HitLists by_pose(grid.poses.size());
  if (work) work->plan(poses);
  parallel_rows(poses, 1, [&](int pose, int) {
    if (work && work->stopped()) return;
    static thread_local std::vector<const uint8_t*> ones, others;
    static thread_local std::vector<PlacedHit> kept;
    ones.resize(edges.size()), others.resize(edges.size());
    const GridPose& p = grid.poses[static_cast<size_t>(pose)];
    const double to = p.scale * to_level, c = cos(p.angle), s = sin(p.angle);
    const double turned = p.angle.radians() * 128 / std::numbers::pi + turn_by;
    std::ptrdiff_t stride = 0;
    for (size_t k = 0; k < edges.size(); ++k) {
      const TaughtEdge& e = edges[k];
      const int dx = nearest(to * (c * e.place.x - s * e.place.y));
      const int dy = nearest(to * (s * e.place.x + c * e.place.y));
      const int direction = nearest(turned + coarse.directions[k]) & 255;
      const auto answers_of = [&](int of) {
        const Image<uint8_t>& map = responses.maps[static_cast<size_t>(direction_step(of & 255))];
        stride = map.stride();
        return map.row(responses.pad + dy) + responses.pad + window.x0 + dx;
      };
      ones[k] = answers_of(direction);
      if (!coarse.ends.empty()) others[k] = answers_of(direction + 128);
    }
    kept.clear();
    sum_rows({ones.data(), others.data(), coarse.ends.empty() ? nullptr : coarse.ends.data()}, shared.checks,
             {stride, window.width, band.rows, band.first - window.y0, pose}, kept);
    keep_best({&kept, 1}, kept.size(), max_hits_of_pose);
    by_pose[static_cast<size_t>(pose)].assign(kept.begin(), kept.end());
    if (work) work->advance(1);
  });
  return by_pose;
}

}  // namespace

Angle coarse_angle_step(const PatternModel& target) {
  const CoarseEdges& coarse = target.coarse();
  return radians(step_px / coarse_radius(coarse, std::ldexp(1.0, coarse.level)));
}

CoarseHits coarse_search(const PatternModel& target, const PreparedPicture& prepared,
                         const CoarseSearch& search, Work* work) {
  const CoarseEdges& coarse = target.coarse(search.polarity == Polarity::per_edge);
  const int level = search.level;
  if (level >= prepared.level_count()) return {};
  const Image<uint8_t>& picture = prepared.level(level);
  double radius = 0;
  for (const TaughtEdge& e : coarse.edges) radius = std::max(radius, norm(e.place));
  const int pad = static_cast<int>(std::ceil(radius * search.scale.max * std::ldexp(1.0, -level))) + 2;
  // Far above the noise, and low enough for thin structure that a coarse level has blurred.
  const double least = std::max({3.0, 0.7 * search.min_contrast, 4 * 0.87 * prepared.noise_sigma(level)});
  const PoseGrid grid = pose_grid(coarse, search, target.has_angle());
  const CoarseWindow window = window_of(search.origins, level, picture.width(), picture.height());
  if (std::max(window.width, window.height) > PlacedHit::max_places ||
      grid.poses.size() > PlacedHit::max_poses)
    fail_argument(fmt::format(
        "pattern: {} x {} origins on level {} and {} poses are too many for one search (at most "
        "{} either way "
        "and {} poses); give a smaller search region, or smaller ranges of angle and scale",
        window.width, window.height, level, grid.poses.size(), PlacedHit::max_places, PlacedHit::max_poses));
  const int count = static_cast<int>(coarse.edges.size()), full = best_response * count;
  const int limit = std::clamp(static_cast<int>(std::ceil(search.min_likeness * full)), 1, full);
  const std::array<SumCheck, sum_checks> checks = checks_for(coarse, limit, search.effort);
  // Bands keep the maps small, for the memory and the processor's caches. A thread makes a band's maps and
  // sums in them; few bands at a time, for the memory again.
  const int band_rows = std::max(64, 2 * pad), bands = (window.height + band_rows - 1) / band_rows,
            at_once = 4;
  const Gradients& gradients = prepared.gradients(level);
  const auto hits_of = [&](int which) {
    const Band band{window.y0 + which * band_rows, std::min(band_rows, window.height - which * band_rows)};
    const ResponseMaps responses =
        response_maps(gradients, static_cast<int>(std::lround(least)), pad, band.first, band.rows);
    return hits_in(band, responses, {coarse, grid, window, search, checks}, work);
  };
  HitLists hits;
  size_t found = 0;
  for (int first = 0; first < bands; first += at_once) {
    std::vector<HitLists> of_bands(static_cast<size_t>(std::min(at_once, bands - first)));
    parallel_rows(static_cast<int>(of_bands.size()), 1,
                  [&](int i, int) { of_bands[static_cast<size_t>(i)] = hits_of(first + i); });
    for (HitLists& lists : of_bands)
      for (std::vector<PlacedHit>& list : lists)
        if (!list.empty()) found += list.size(), hits.push_back(std::move(list));
    if (found > 2 * max_hits) found = keep_best(hits, found, max_hits, true);
  }
  keep_best(hits, found, max_hits);
  const double to = std::ldexp(1.0, -level);
  std::vector<Point2> middles;
  for (const GridPose& p : grid.poses)
    middles.push_back(rotated(target.extent().centre(), p.angle) * (p.scale * to));
  const double echo = search.effort >= 1 ? 0 : 0.85 - 0.3 * search.effort;
  return CoarseHits(
      hits, grid, middles,
      {window, level, static_cast<double>(full), spot_radius(target) * search.scale.min * to, echo});
}

}  // namespace heron
