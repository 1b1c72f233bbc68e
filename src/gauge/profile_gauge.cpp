#include <fmt/format.h>

#include <algorithm>
#include <cmath>

#include "geometry/robust_fit.hpp"
#include "heron/base/median.hpp"
#include "measured.hpp"

namespace heron {
namespace {

constexpr double least_measured = 0.4;  // share of a band's places that need a height

/// Heights along a band: the median across it at each step, robust against holes and spikes.
struct HeightProfile {
  std::vector<Point2> heights;  ///< along the band and height, millimetres; steps with enough heights alone
  std::vector<double> sigmas;
  std::vector<size_t> steps;  ///< of the band
  std::vector<double> all;    ///< every height inside the band
  double measured = 0;        ///< share of its places that have a height
};

HeightProfile profile_of(const Scan& scan, const HeightMap& map) {
  HeightProfile profile;
  std::vector<double> lanes;
  double scatter = 0;
  int places = 0;
  for (int k = 0; k < scan.steps(); ++k) {
    lanes.clear();
    for (int i = 0; i < scan.lanes(); ++i) {
      const Point2 p = scan.at(k, scan.lane(i));
      const int x = static_cast<int>(std::lround(p.x)), y = static_cast<int>(std::lround(p.y));
      ++places;
      if (map.mm.holds(x, y) && std::isfinite(map.mm(x, y))) lanes.push_back(map.mm(x, y));
    }
    profile.all.insert(profile.all.end(), lanes.begin(), lanes.end());
    if (lanes.size() * 3 < static_cast<size_t>(scan.lanes())) continue;
    const auto n = static_cast<double>(lanes.size());
    std::vector<double> off = lanes;
    const double middle = median(off);
    for (double& v : off) v -= middle;
    const double sigma = 1.4826 * median_size(off);
    scatter = std::max(scatter, sigma);
    profile.heights.push_back({k * map.pitch_mm, middle}), profile.steps.push_back(static_cast<size_t>(k));
    profile.sigmas.push_back(1.2533 * sigma / std::sqrt(n));  // a median's, of normal noise
  }
  // A few lanes that agree by chance are no better than their neighbours.
  std::vector<double> sizes = profile.sigmas;
  const double usual = std::max(median(sizes), 1e-6);
  for (double& s : profile.sigmas) s = std::max(s, 0.5 * usual);
  profile.measured = static_cast<double>(profile.all.size()) / std::max(places, 1);
  return profile;
}

struct Step {
  double height = 0, sigma = 0;
  size_t at = 0;
};

/// The largest step: the split with the largest difference of the means of up to `window` steps on both
/// sides; its height by the medians of what lies two steps and more away from it.
Step largest_step(const HeightProfile& p) {
  const int n = static_cast<int>(p.heights.size()), window = std::max(3, n / 4);
  Step best;
  double most = -1;
  const auto mean = [&](int from, int to) {
    double sum = 0;
    for (int i = from; i < to; ++i) sum += p.heights[static_cast<size_t>(i)].y;
    return sum / std::max(1, to - from);
  };
  for (int k = 3; k + 3 <= n; ++k)
    if (const double d = std::abs(mean(k, std::min(n, k + window)) - mean(std::max(0, k - window), k));
        d > most)
      most = d, best.at = static_cast<size_t>(k);
  std::vector<double> before, after;
  const int at = static_cast<int>(best.at), gap = 2;
  for (int i = std::max(0, at - window); i < at - gap; ++i)
    before.push_back(p.heights[static_cast<size_t>(i)].y);
  for (int i = at + gap; i < std::min(n, at + window); ++i)
    after.push_back(p.heights[static_cast<size_t>(i)].y);
  const auto level = [](std::vector<double>& v) {
    const double middle = median(v);
    std::vector<double> off = v;
    for (double& o : off) o -= middle;
    return std::pair{middle, 1.2533 * 1.4826 * median_size(off) /
                                 std::sqrt(static_cast<double>(std::max<size_t>(v.size(), 1)))};
  };
  const auto [low, low_sigma] = level(before);
  const auto [high, high_sigma] = level(after);
  best.height = high - low, best.sigma = std::hypot(low_sigma, high_sigma);
  return best;
}

}  // namespace

Measured measured(const ProfileGauge& gauge, const GaugeScene& scene) {
  Measured result;
  if (!scene.heights) return result.fails(Verdict::not_measured, "the picture is no height map");
  const auto scan = band_in_picture(gauge.band, scene, result);
  if (!scan) return result;
  const HeightMap& map = *scene.heights;
  const HeightProfile p = profile_of(*scan, map);
  if (p.measured < least_measured || p.heights.size() < 8)
    return result.fails(Verdict::not_found,
                        fmt::format("{:.0f} % of its band has a height; it needs {:.0f} % and 8 steps",
                                    100 * p.measured, 100 * least_measured));
  std::vector<FitRow<2>> rows;
  for (size_t i = 0; i < p.heights.size(); ++i)
    rows.push_back({{1, p.heights[i].x}, p.heights[i].y, p.sigmas[i]});
  const auto line = fit_robustly<2>(rows, {p.heights.front().y, 0}, {.least = 1e-3, .rounds = 10});
  size_t highest = 0, lowest_off = 0, highest_off = 0;
  const auto off = [&](size_t i) { return p.heights[i].y - rows[i].terms.dot(line.unknowns); };
  std::vector<double> sigmas = p.sigmas;
  const double usual = median(sigmas);  // where the band crosses an edge the scatter is no noise
  for (size_t i = 0; i < p.heights.size(); ++i) {
    if (p.heights[i].y > p.heights[highest].y) highest = i;
    if (off(i) < off(lowest_off)) lowest_off = i;
    if (off(i) > off(highest_off)) highest_off = i;
  }
  const Step step = largest_step(p);
  const Uncertain flatness{off(highest_off) - off(lowest_off),
                           std::hypot(p.sigmas[highest_off], p.sigmas[lowest_off])};
  const double slope = radians(std::atan(line.unknowns[1])).degrees(),
               slope_sigma =
                   radians(std::sqrt(line.covariance(1, 1)) / (1 + line.unknowns[1] * line.unknowns[1]))
                       .degrees();
  // Holes are as high as what was measured around them, on the mean.
  double above = 0;
  for (const double h : p.all) above += std::max(0.0, h - gauge.base_mm);
  const double area = scan->length() * scan->width() * map.pitch_mm * map.pitch_mm,
               volume = above / static_cast<double>(p.all.size()) * area,
               volume_sigma = area * usual / std::sqrt(static_cast<double>(p.heights.size()));
  size_t drawn = highest;
  switch (gauge.reads) {
    case ProfileReading::step:
      result.reads("step", {step.height, step.sigma}, "mm"), drawn = step.at;
      break;
    case ProfileReading::slope:
      if (!line.determined) return result.fails(Verdict::not_found, "no line fits the heights");
      result.reads("slope", {slope, slope_sigma}, "deg"), drawn = p.heights.size() / 2;
      break;
    case ProfileReading::flatness:
      result.reads("flatness", flatness, "mm"), drawn = highest_off;
      break;
    case ProfileReading::highest:
      result.reads("highest", {p.heights[highest].y, p.sigmas[highest]}, "mm");
      break;
    case ProfileReading::volume:
      result.reads("volume", {volume, volume_sigma}, "mm3"), drawn = p.heights.size() / 2;
  }
  result.values = {{"step", step.height, step.sigma, "mm"},
                   {"slope", slope, slope_sigma, "deg"},
                   {"flatness", flatness.value, flatness.sigma, "mm"},
                   {"highest", p.heights[highest].y, p.sigmas[highest], "mm"},
                   {"volume", volume, volume_sigma, "mm3"},
                   {"measured", 100 * p.measured, {}, "%"}};
  const Point2 at = scan->at(static_cast<double>(p.steps[drawn]), 0);
  const double half = 0.5 * scan->width();
  result.contours.push_back({.points = {scan->at(static_cast<double>(p.steps[drawn]), -half),
                                        scan->at(static_cast<double>(p.steps[drawn]), half)},
                             .closed = false});
  result.at = at;
  return result;
}

}  // namespace heron
