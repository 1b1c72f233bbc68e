#include <Eigen/Cholesky>
#include <algorithm>
#include <array>
#include <cmath>

#include "base/tukey.hpp"
#include "heron/image/pyramid.hpp"
#include "heron/image/sample.hpp"
#include "image/vector_padding.hpp"
#include "locate/common/consensus.hpp"
#include "locate/edge_samples/sample_edges.hpp"
#include "rim.hpp"

namespace heron {
namespace {

constexpr int first_rays = 48;

struct RayHit {
  Point2 ray;  ///< unit
  double radius;
};

/// Directions evenly round, from +x.
std::vector<Point2> rays_around(int count) {
  const Angle next = radians(2 * std::numbers::pi / count);
  const double c = cos(next), s = sin(next);
  std::vector<Point2> rays{{1, 0}};
  while (static_cast<int>(rays.size()) < count) {
    const Point2 u = rays.back();
    rays.push_back({c * u.x - s * u.y, s * u.x + c * u.y});
  }
  return rays;
}

/// Where rays from the centre meet the strongest change of the right sort within two pixels of the wave.
class NearHits {
 public:
  NearHits(const Image<uint8_t>& picture, int rays, bool dark, double min_contrast)
      : picture_(picture), rays_(rays_around(rays)) {
    scan_.reach = 2, scan_.min_contrast = min_contrast, scan_.falling = !dark;
    places_.count = rays_.size();
    const size_t room = rays_.size() + vector_padding;
    for (auto* column : {&places_.x, &places_.y, &places_.normal_x, &places_.normal_y})
      column->assign(room, 0);
    for (size_t i = 0; i < rays_.size(); ++i)
      places_.normal_x[i] = static_cast<float>(rays_[i].x),
      places_.normal_y[i] = static_cast<float>(rays_[i].y);
  }

  void meet(const FourierRim& wave, std::vector<RayHit>& hits) {
    for (size_t i = 0; i < rays_.size(); ++i) {
      const Point2 p = rays_[i] * wave.along(rays_[i]);
      places_.x[i] = static_cast<float>(p.x), places_.y[i] = static_cast<float>(p.y);
    }
    scan_.origin = wave.centre;
    sample_edges(picture_, places_, scan_, met_);
    hits.clear();
    for (size_t i = 0; i < rays_.size(); ++i)
      if (met_.contrast[i] > 0) hits.push_back({rays_[i], wave.along(rays_[i]) + met_.offset[i]});
  }

 private:
  const Image<uint8_t>& picture_;
  std::vector<Point2> rays_;
  EdgeColumns places_;
  EdgeScan scan_;
  EdgeSamples met_;
};

/// How rays look for a rim: pixels inside and outside of the wave, how many, for what.
struct RaySearch {
  double less, more;
  int rays;
  bool dark;
  double min_contrast;
};

/// The same between two radii.
std::vector<RayHit> hits_along_rays(const Image<uint8_t>& picture, const FourierRim& wave,
                                    const RaySearch& search) {
  const double less = search.less, more = search.more;
  const bool dark = search.dark;
  constexpr double step = 0.5;
  std::vector<RayHit> hits;
  std::vector<double> v;
  for (const Point2 u : rays_around(search.rays)) {
    const double r = wave.along(u), first = std::max(1.0, r - less);
    const int count = static_cast<int>((r + more - first) / step) + 1;
    v.clear();
    const bool inside = can_sample_inside(picture.view(), wave.centre + u * first) &&
                        can_sample_inside(picture.view(), wave.centre + u * (first + step * count));
    for (int k = 0; k < count; ++k) {
      const Point2 p = wave.centre + u * (first + step * k);
      if (inside) {
        v.push_back(bilinear_inside(picture.view(), p.x, p.y));
        continue;
      }
      if (!can_sample(picture.view(), p.x, p.y)) break;
      v.push_back(bilinear(picture.view(), p.x, p.y));
    }
    double best = 0;
    size_t at = 0;
    const auto rise = [&](size_t k) {
      return dark ? v[k + 2] - v[k - 2] : v[k - 2] - v[k + 2];
    };  // two pixels
    for (size_t k = 2; k + 2 < v.size(); ++k)
      if (rise(k) > best) best = rise(k), at = k;
    if (best < search.min_contrast) continue;
    double sub = 0;
    if (at > 2 && at + 3 < v.size()) {
      const double a = rise(at - 1), c = rise(at + 1), bend = a - 2 * best + c;
      if (bend < 0) sub = std::clamp(0.5 * (a - c) / bend, -0.5, 0.5);
    }
    hits.push_back({u, first + step * (static_cast<double>(at) + sub)});
  }
  return hits;
}

/// The circle that most hits agree with, of those through three of them.
std::optional<FourierRim> agreed_circle(const std::vector<RayHit>& hits, const FourierRim& start,
                                        double within, double min_radius, double max_radius,
                                        double min_agree) {
  constexpr double nearly_all = 0.85;
  if (hits.size() < 6) return std::nullopt;
  std::vector<Point2> points;
  for (const RayHit& h : hits) points.push_back(start.centre + h.ray * h.radius);
  const size_t n = points.size();
  std::vector<double> x((n + 3) / 4 * 4, 1e9), y(x);  // filled up with what agrees with nothing
  for (size_t i = 0; i < n; ++i) x[i] = points[i].x, y[i] = points[i].y;
  std::optional<FourierRim> best;
  double most = 0;
  SampleRandom draw;
  for (int round = 0; round < 80; ++round) {
    const size_t i = draw.below(n), j = (i + n / 4 + draw.below(n / 4 + 1)) % n,
                 k = (i + n / 2 + draw.below(n / 4 + 1)) % n;
    if (i == j || j == k || i == k) continue;
    const auto circle = circle_through(points[i], points[j], points[k]);
    if (!circle || circle->radius < min_radius || circle->radius > max_radius) continue;
    // By squares of distances, which near the circle differ as they do; four sums side by side.
    const double square = circle->radius * circle->radius, per_within = 1 / (2 * circle->radius * within);
    std::array<double, 4> sums{};
    for (size_t p = 0; p < x.size(); p += 4)
      for (size_t lane = 0; lane < 4; ++lane) {
        const double dx = x[p + lane] - circle->centre.x, dy = y[p + lane] - circle->centre.y;
        const double off = (dx * dx + dy * dy - square) * per_within, near = 1 - off * off;
        sums[lane] += near > 0 ? near : 0;
      }
    const double agree = sums[0] + sums[1] + sums[2] + sums[3];
    if (agree > most) most = agree, best = FourierRim{circle->centre, circle->radius, {}};
    if (most > nearly_all * static_cast<double>(n)) break;
  }
  return most >= min_agree ? best : std::nullopt;
}

/// One step of least squares for centre, radius and even wave, hits far off weighed down (Tukey). The hits
/// lie on rays from `wave`'s centre, so they are cast anew before the next step. Returns how many are near.
int settle(FourierRim& wave, const std::vector<RayHit>& hits, double within, bool oval) {
  using Vector5 = Eigen::Matrix<double, 5, 1>;
  Eigen::Matrix<double, 5, 5> normal = Eigen::Matrix<double, 5, 5>::Identity() * 1e-9;
  Vector5 right = Vector5::Zero();
  int used = 0;
  for (const RayHit& h : hits) {
    const double off = h.radius - wave.along(h.ray), t = off / within;
    if (std::abs(t) >= 1) continue;
    const double w = tukey_weight(t);
    const Point2 u = h.ray;
    const Vector5 by(u.x, u.y, 1, u.x * u.x - u.y * u.y, 2 * u.x * u.y), weighed = w * by;
    for (int k = 0; k < 5; ++k) normal.col(k) += by[k] * weighed;
    right += off * weighed;
    ++used;
  }
  if (used < 6) return 0;
  Vector5 step = Vector5::Zero();
  if (oval)
    step = normal.ldlt().solve(right);
  else
    step.head<3>() = normal.topLeftCorner<3, 3>().ldlt().solve(right.head<3>());
  if (!step.allFinite() || step.norm() > wave.radius) return 0;
  wave.centre += Point2{step[0], step[1]};
  wave.radius += step[2], wave.even += Point2{step[3], step[4]};
  return used;
}

}  // namespace

std::optional<FourierRim> settle_rim(const PreparedPicture& prepared, const RimGuess& guess,
                                     const RimSearch& search) {
  const int first_level =
      std::clamp(static_cast<int>(std::floor(std::log2(guess.radius / 7))), 0, prepared.level_count() - 1);
  int level = first_level;
  double scale = std::ldexp(1.0, -level);
  const double slack = 0.05 * guess.radius + 1 / scale;
  FourierRim wave{to_level(guess.centre, level), guess.radius * scale, {}};
  double less = (guess.radius - search.min_radius + slack) * scale,
         more = (search.max_radius - guess.radius + slack) * scale;
  less += 1.5, more += 1.5;  // the centre is known to a pixel or two
  // What two pixels show of a rim, and noise does not.
  const auto contrast_on = [&](int index) {
    return std::max(0.5 * search.min_contrast, 3 * prepared.noise_sigma(index));
  };
  std::vector<RayHit> hits =
      hits_along_rays(prepared.level(level), wave, {less, more, first_rays, search.dark, contrast_on(level)});
  const auto circle = agreed_circle(hits, wave, 1.2, (search.min_radius - slack) * scale,
                                    (search.max_radius + slack) * scale, 0.5 * search.min_rim * first_rays);
  if (!circle) return std::nullopt;
  wave = *circle;
  for (;;) {
    const int rays = std::clamp(static_cast<int>(2 * std::numbers::pi * wave.radius / 2), 32, 128);
    int near = 0;
    NearHits rim(prepared.level(level), rays, search.dark, contrast_on(level));
    // Narrow from the start: an edge that cuts a part of the rim off runs near it at its ends. A level below
    // begins with a rim that is nearly known.
    for (int pass = 0; pass < (level == first_level ? 3 : 2); ++pass) {
      rim.meet(wave, hits);
      near = settle(wave, hits, pass == 0 ? 1.6 : 1.2, wave.radius > 12);
      if (near < 6) return std::nullopt;
    }
    wave.met = static_cast<double>(near) / rays;
    if (wave.met < 0.75 * search.min_rim) return std::nullopt;
    if (level == 0) break;
    --level;
    wave.centre = to_level(from_level(wave.centre, level + 1), level);
    wave.radius *= 2, wave.even = wave.even * 2;
  }
  return wave;
}

}  // namespace heron
