#include "heron/heights/ground.hpp"
#include "base/tukey.hpp"

#include <fmt/format.h>

#include <Eigen/LU>
#include <algorithm>
#include <array>
#include <cmath>
#include <optional>
#include <vector>

#include "heron/base/error.hpp"
#include "heron/base/median.hpp"

namespace heron {
namespace {

struct Place {
  double x, y, z;  ///< millimetres from the map's middle, and height
};

using Plane = Eigen::Vector3d;  // offset, slope in x, slope in y

double above(const Plane& p, const Place& at) { return at.z - (p[0] + p[1] * at.x + p[2] * at.y); }

/// Picks triples; the same everywhere (Marsaglia, Xorshift RNGs, 2003).
class Picks {
 public:
  size_t below(size_t count) {
    state_ ^= state_ << 13, state_ ^= state_ >> 7, state_ ^= state_ << 17;
    return static_cast<size_t>(state_ % count);
  }

 private:
  uint64_t state_ = 0x9e3779b97f4a7c15ULL;
};

std::vector<Place> places_of(const ImageView<const float>& map, Point2 pitch, const Region& region,
                             int step) {
  std::vector<Place> places;
  const double mx = 0.5 * (map.width() - 1), my = 0.5 * (map.height() - 1);
  for (int y = step / 2; y < map.height(); y += step)
    for (int x = step / 2; x < map.width(); x += step) {
      if (!std::isfinite(map(x, y)) ||
          (!region.empty() && !region.contains({static_cast<double>(x), static_cast<double>(y)})))
        continue;
      places.push_back({(x - mx) * pitch.x, (y - my) * pitch.y, map(x, y)});
    }
  return places;
}

/// Scatter of neighbouring heights: median of second differences along rows, which no plane answers to.
double local_scatter(const ImageView<const float>& map) {
  std::vector<float> differences;
  const int step = std::max(1, map.height() / 100);
  for (int y = 0; y < map.height(); y += step)
    for (int x = 2; x < map.width(); x += 3) {
      const float d = map(x - 2, y) - 2 * map(x - 1, y) + map(x, y);
      if (std::isfinite(d)) differences.push_back(std::abs(d));
    }
  return 1.4826 * median(differences) / std::sqrt(6.0);
}

std::optional<Plane> plane_through(const Place& a, const Place& b, const Place& c) {
  Eigen::Matrix3d m;
  m << 1, a.x, a.y, 1, b.x, b.y, 1, c.x, c.y;
  const double area = (b.x - a.x) * (c.y - a.y) - (b.y - a.y) * (c.x - a.x);
  if (std::abs(area) < 1e-9) return std::nullopt;
  const Plane p = m.inverse() * Eigen::Vector3d(a.z, b.z, c.z);
  return p.allFinite() ? std::optional(p) : std::nullopt;
}

/// Least squares with Tukey weights of that reach; the normal equations' inverse for the sigmas.
struct Refined {
  Plane plane;
  Eigen::Matrix3d unit_covariance = Eigen::Matrix3d::Zero();
  double variance = 0;
  size_t near = 0;
};

Refined refine(const std::vector<Place>& places, Plane plane, double reach) {
  Refined r{plane};
  for (int round = 0; round < 4; ++round) {
    Eigen::Matrix3d a = Eigen::Matrix3d::Zero();
    Eigen::Vector3d b = Eigen::Vector3d::Zero();
    double squares = 0, weights = 0;
    size_t near = 0;
    for (const Place& p : places) {
      const double d = above(r.plane, p) / reach;
      if (std::abs(d) >= 1) continue;
      const double w = tukey_weight(d);
      const Eigen::Vector3d j(1, p.x, p.y);
      a += w * j * j.transpose(), b += w * p.z * j;
      squares += w * d * d * reach * reach, weights += w, ++near;
    }
    r.unit_covariance = a.inverse();
    r.plane = r.unit_covariance * b;
    r.variance = weights > 3 ? squares / weights : 0;
    r.near = near;
  }
  return r;
}

}  // namespace

GroundFound find_ground(const ImageView<const float>& map, Point2 pitch, const Region& region) {
  if (!(pitch.x > 0) || !(pitch.y > 0) || !is_finite(pitch))
    fail_argument(
        fmt::format("level: the pitch must be above 0 mm a pixel in both directions, {:g} x {:g} was given",
                    pitch.x, pitch.y));
  GroundFound result;
  const std::vector<Place> all = places_of(map, pitch, region, 1);
  if (all.size() < 100) {
    result.reason = fmt::format("{} places were measured; at least 100 are needed", all.size());
    return result;
  }
  // Some thousand places decide which plane it is.
  std::vector<Place> sample;
  const double stride = std::max(1.0, static_cast<double>(all.size()) / 4000);
  for (double i = 0; i < static_cast<double>(all.size()); i += stride)
    sample.push_back(all[static_cast<size_t>(i)]);
  const double scatter = std::max(local_scatter(map), 1e-6), band = 4 * scatter;
  Picks picks;
  Plane best = Plane::Zero();
  double best_score = 0;
  for (int attempt = 0; attempt < 400; ++attempt) {
    const auto plane = plane_through(sample[picks.below(sample.size())], sample[picks.below(sample.size())],
                                     sample[picks.below(sample.size())]);
    if (!plane) continue;
    double score = 0;
    for (const Place& p : sample) {
      const double d = above(*plane, p);
      score += std::abs(d) < band ? 1 : d < 0 ? -1.5 : 0;
    }
    if (score > best_score) best_score = score, best = *plane;
  }
  if (best_score < 0.1 * static_cast<double>(sample.size())) {
    result.reason =
        "no plane holds a tenth of the places with hardly any below it; is the table in sight between the "
        "parts?";
    return result;
  }
  // A triple leans a little; a wide reach first, then one that keeps to the ground.
  best = refine(sample, best, 3 * band).plane;
  const Refined fine = refine(all, best, 1.5 * band);
  result.found = true;
  GroundPlane& g = result.plane;
  g.offset_mm = fine.plane[0], g.slope = {fine.plane[1], fine.plane[2]};
  g.pitch_mm = pitch, g.width = map.width(), g.height = map.height();
  g.sigma_mm = std::sqrt(fine.variance);
  g.share = static_cast<double>(fine.near) / static_cast<double>(all.size());
  g.sigma_tilt =
      radians(std::sqrt(fine.variance * std::max(fine.unit_covariance(1, 1), fine.unit_covariance(2, 2))));
  return result;
}

Image<float> leveled(const ImageView<const float>& map, const GroundPlane& plane) {
  if (map.width() != plane.width || map.height() != plane.height)
    fail_argument(fmt::format("level: the map has {} x {} pixels, the ground was found in one of {} x {}",
                              map.width(), map.height(), plane.width, plane.height));
  Image<float> result(map.width(), map.height());
  for (int y = 0; y < map.height(); ++y)
    for (int x = 0; x < map.width(); ++x) result(x, y) = static_cast<float>(map(x, y) - plane.at(x, y));
  return result;
}

Image<uint8_t> height_band(const ImageView<const float>& map, const Range<double>& band) {
  require_ordered(band, "height band", " mm");
  Image<uint8_t> mask(map.width(), map.height());
  for (int y = 0; y < map.height(); ++y)
    for (int x = 0; x < map.width(); ++x)
      mask(x, y) = map(x, y) >= band.min && map(x, y) <= band.max ? 255 : 0;
  return mask;
}

}  // namespace heron
