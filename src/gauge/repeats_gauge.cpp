#include <fmt/format.h>

#include <algorithm>
#include <cmath>

#include "heron/base/median.hpp"
#include "locate/edge/edge_scan.hpp"
#include "measured.hpp"

namespace heron {
namespace {

/// Edges on an even grid: place = first + number x pitch.
struct Grid {
  double first = 0, pitch = 0, pitch_sigma = 0, error = 0, error_sigma = 0;
  std::vector<int> numbers;  ///< of each edge, from 0
  std::vector<int> missing;
  int total = 0;
};

/// The pitch that most gaps are whole multiples of: their median, where less than half of the repeats are
/// missing.
std::optional<Grid> grid_of(const std::vector<double>& places, const std::vector<double>& sigmas,
                            double turn) {
  const size_t n = places.size();
  if (n < 3) return std::nullopt;
  std::vector<double> gaps;
  for (size_t i = 0; i + 1 < n; ++i) gaps.push_back(places[i + 1] - places[i]);
  if (turn > 0) gaps.push_back(places[0] + turn - places[n - 1]);
  std::vector<double> sorted = gaps;
  const double usual = median_size(sorted);
  if (!(usual > 0)) return std::nullopt;
  Grid grid;
  grid.numbers.push_back(0);
  for (size_t i = 0; i + 1 < n; ++i)
    grid.numbers.push_back(grid.numbers.back() + std::max(1, static_cast<int>(std::lround(gaps[i] / usual))));
  grid.total = grid.numbers.back() + 1;
  if (turn > 0) grid.total += std::max(1, static_cast<int>(std::lround(gaps.back() / usual))) - 1;
  double k = 0, p = 0, kk = 0, kp = 0, variance = 0;
  for (size_t i = 0; i < n; ++i) {
    const double number = grid.numbers[i];
    k += number, p += places[i], kk += number * number, kp += number * places[i],
        variance += sigmas[i] * sigmas[i];
  }
  const auto count = static_cast<double>(n);
  const double spread = kk - k * k / count;
  grid.pitch = turn > 0 ? turn / grid.total : (kp - k * p / count) / spread;
  grid.first = (p - grid.pitch * k) / count;
  if (turn == 0) grid.pitch_sigma = std::sqrt(variance / count / spread);
  for (size_t i = 0; i < n; ++i) {
    const double off = std::abs(places[i] - grid.first - grid.numbers[i] * grid.pitch);
    if (off > grid.error) grid.error = off, grid.error_sigma = sigmas[i];
  }
  for (int number = 0; number < grid.total; ++number)
    if (std::find(grid.numbers.begin(), grid.numbers.end(), number) == grid.numbers.end())
      grid.missing.push_back(number);
  return grid;
}

/// Scratches are no teeth: edges that have less than this share of the usual contrast are left out.
constexpr double least_contrast = 0.4;

std::vector<ScanEdge> strong_edges(const std::vector<double>& profile, const Scan& scan, double threshold,
                                   double noise) {
  std::vector<ScanEdge> edges = edges_along(profile, scan.round(), threshold, noise);
  std::erase_if(edges, is_guess);
  if (edges.empty()) return edges;
  std::vector<double> contrasts;
  for (const ScanEdge& e : edges) contrasts.push_back(std::abs(e.contrast));
  const auto upper = contrasts.begin() + static_cast<ptrdiff_t>(contrasts.size() * 3 / 4);
  std::nth_element(contrasts.begin(), upper, contrasts.end());
  std::erase_if(edges, [&, usual = *upper](const ScanEdge& e) {
    return std::abs(e.contrast) < least_contrast * usual;
  });
  return edges;
}

}  // namespace

Measured measured(const RepeatsGauge& gauge, const GaugeScene& scene) {
  Measured result;
  const bool around = gauge.band.empty();
  const auto scan =
      around ? ring_in_picture(gauge.ring, scene, result) : band_in_picture(gauge.band, scene, result);
  if (!scan) return result;
  const std::vector<double> profile = profile_of(strips_of(scene.prepared.level(0), *scan));
  const double noise =
      std::max(0.05, scene.prepared.noise_sigma(0) / std::sqrt(static_cast<double>(scan->lanes())));
  const double threshold = edge_threshold(edge_settings(gauge.change, EdgeOrder::all, gauge.threshold),
                                          scene.prepared, scan->lanes());
  const std::vector<ScanEdge> all = strong_edges(profile, *scan, threshold, noise);
  ScanProfile drawn{.name = around ? "ring" : "band",
                    .brightness = profile,
                    .strength = strength_along(profile, scan->round()),
                    .threshold = threshold,
                    .edges = {},
                    .path = {}};
  for (int k = 0; k < scan->steps(); k += 2) drawn.path.push_back(scan->at(k * scan->per_step(), 0));
  // The pitch is measured between edges of the same polarity: the two sides of a tooth are not a pitch apart.
  const EdgeChange sense = gauge.change == EdgeChange::falling ? EdgeChange::falling : EdgeChange::rising;
  std::vector<double> places, sigmas;
  double counted = 0, last_along = 0;
  const Point2 start = scene.plane.at(scan->at(0, 0));
  for (const ScanEdge& edge : all) {
    if (gauge.change != EdgeChange::either && !is_meant(edge, sense)) continue;
    ++counted;
    drawn.edges.push_back(edge.at);
    const double along = edge.at * scan->per_step(), sigma = edge.sigma * scan->per_step();
    const Point2 at = scan->at(along, 0);
    if (!is_meant(edge, sense)) {
      result.items.push_back({at, 0});
      continue;
    }
    const double scale = along > 0 ? distance(start, scene.plane.at(at)) / along : scene.plane.scale(at);
    places.push_back(around ? scan->told(along) : along * scale);
    sigmas.push_back(around ? scan->told(sigma) : sigma * scale);
    last_along = along;
    result.items.push_back({at, places.back()});
  }
  result.profiles.push_back(std::move(drawn));
  const auto grid = grid_of(places, sigmas, around && scan->round() ? 360 : 0);
  const std::string unit = around ? "deg" : scene.plane.length_unit();
  const auto missing = grid ? static_cast<double>(grid->missing.size()) : 0;
  if (grid) {
    for (const int number : grid->missing) {
      const double place = grid->first + number * grid->pitch;
      const double along =
          around ? place / scan->told(1) : place * last_along / std::max(places.back(), 1e-9);
      result.items.push_back({scan->at(along, 0), static_cast<double>(number + 1), false});
    }
    result.values = {{"count", counted, {}, ""},
                     {"pitch", grid->pitch, grid->pitch_sigma, unit},
                     {"error", grid->error, grid->error_sigma, unit},
                     {"missing", missing, {}, ""}};
    for (size_t i = 0; i < grid->missing.size(); ++i)
      result.values.push_back(
          {fmt::format("missing{}", i + 1), static_cast<double>(grid->missing[i] + 1), {}, ""});
  }
  switch (gauge.reads) {
    case RepeatReading::count:
      return result.counts("count", counted);
    case RepeatReading::missing:
      if (grid) return result.counts("missing", missing);
      break;
    case RepeatReading::pitch:
      if (grid) return result.reads("pitch", {grid->pitch, grid->pitch_sigma}, unit);
      break;
    case RepeatReading::error:
      if (grid) return result.reads("error", {grid->error, grid->error_sigma}, unit);
  }
  return result.fails(Verdict::not_found, fmt::format("{} repeats are seen; a pitch needs 3", places.size()));
}

}  // namespace heron
