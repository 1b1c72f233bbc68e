#include <Eigen/Cholesky>
#include <algorithm>
#include <array>
#include <cmath>

#include "cells.hpp"
#include "feature/blurred_step.hpp"
#include "heron/image/pyramid.hpp"
#include "heron/image/sample.hpp"
#include "rim.hpp"

namespace heron {
namespace {

constexpr int first_rays = 48;

struct RayHit {
  double turn, radius;
};

/// Where rays from the centre meet the strongest change of the right sort between two radii.
std::vector<RayHit> hits_along_rays(const Image<uint8_t>& picture, const RimWave& wave, double less,
                                    double more, int rays, bool dark, double least_contrast) {
  constexpr double step = 0.5;
  std::vector<RayHit> hits;
  std::vector<double> v;
  for (int i = 0; i < rays; ++i) {
    const double turn = 2 * std::numbers::pi * i / rays, r = wave.at(turn), first = std::max(1.0, r - less);
    const Point2 u = unit(radians(turn));
    const int count = static_cast<int>((r + more - first) / step) + 1;
    v.clear();
    for (int k = 0; k < count; ++k) {
      const Point2 p = wave.centre + u * (first + step * k);
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
    if (best < least_contrast) continue;
    double sub = 0;
    if (at > 2 && at + 3 < v.size()) {
      const double a = rise(at - 1), c = rise(at + 1), bend = a - 2 * best + c;
      if (bend < 0) sub = std::clamp(0.5 * (a - c) / bend, -0.5, 0.5);
    }
    hits.push_back({turn, first + step * (static_cast<double>(at) + sub)});
  }
  return hits;
}

/// The circle that most hits agree with, of those through three of them (Fischler, Bolles, Random sample
/// consensus, CACM 24, 1981; here with every run the same).
std::optional<RimWave> agreed_circle(const std::vector<RayHit>& hits, const RimWave& start, double within,
                                     double least_radius, double most_radius, double least_agree) {
  if (hits.size() < 6) return std::nullopt;
  std::vector<Point2> points;
  for (const RayHit& h : hits) points.push_back(start.centre + unit(radians(h.turn)) * h.radius);
  const size_t n = points.size();
  std::optional<RimWave> best;
  double most = 0;
  uint32_t state = 1;
  const auto pick = [&](size_t below) { return (state = state * 1664525u + 1013904223u) / 65536u % below; };
  for (int round = 0; round < 80; ++round) {
    const size_t i = pick(n), j = (i + n / 4 + pick(n / 4 + 1)) % n, k = (i + n / 2 + pick(n / 4 + 1)) % n;
    if (i == j || j == k || i == k) continue;
    const Point2 a = points[i], b = points[j] - a, c = points[k] - a;
    const double twice = 2 * cross(b, c);
    if (std::abs(twice) < 1e-6) continue;
    const Point2 middle{(c.y * dot(b, b) - b.y * dot(c, c)) / twice,
                        (b.x * dot(c, c) - c.x * dot(b, b)) / twice};
    const double radius = norm(middle);
    if (radius < least_radius || radius > most_radius) continue;
    double agree = 0;
    for (const Point2& p : points) {
      const double off = std::abs(distance(p, a + middle) - radius) / within;
      if (off < 1) agree += 1 - off * off;
    }
    if (agree > most) most = agree, best = RimWave{a + middle, radius, {}};
  }
  return most >= least_agree ? best : std::nullopt;
}

/// One step of least squares for centre, radius and even wave, hits far off weighed down (Tukey). The hits
/// lie on rays from `wave`'s centre, so they are cast anew before the next step. Returns how many are near.
int settle(RimWave& wave, const std::vector<RayHit>& hits, double within, bool oval) {
  using Vector5 = Eigen::Matrix<double, 5, 1>;
  Eigen::Matrix<double, 5, 5> normal = Eigen::Matrix<double, 5, 5>::Identity() * 1e-9;
  Vector5 right = Vector5::Zero();
  int used = 0;
  for (const RayHit& h : hits) {
    const double off = h.radius - wave.at(h.turn), t = off / within;
    if (std::abs(t) >= 1) continue;
    const double w = (1 - t * t) * (1 - t * t);
    Vector5 j;
    j << std::cos(h.turn), std::sin(h.turn), 1, std::cos(2 * h.turn), std::sin(2 * h.turn);
    normal += w * j * j.transpose(), right += w * off * j;
    ++used;
  }
  if (used < 6) return 0;
  Vector5 step = Vector5::Zero();
  if (oval)
    step = normal.ldlt().solve(right);
  else
    step.head<3>() = normal.topLeftCorner<3, 3>().ldlt().solve(right.head<3>());
  if (!step.allFinite()) return 0;
  wave.centre += Point2{step[0], step[1]};
  wave.radius += step[2], wave.even += Point2{step[3], step[4]};
  return used;
}

/// The grey values along a rim, and the ellipse that explains them.
class GreyRim {
 public:
  GreyRim(const Image<uint8_t>& picture, const RimFit& start, bool dark, double least_contrast, double noise)
      : picture_(picture),
        fit_(start),
        dark_(dark),
        least_contrast_(least_contrast),
        noise_(std::max(noise, 0.3)),
        sectors_(static_cast<size_t>(
            std::clamp(static_cast<int>(2 * std::numbers::pi * start.radius / 9), 8, 64))),
        seen_(sectors_, true) {}

  std::optional<RimFit> run() {
    Step s;
    bool settled = false;
    for (int round = 0; round < 8 && !settled; ++round) {
      s = step(round >= 2);
      if (!s.good) return std::nullopt;
      apply(s.change);
      // A rim that walks off is none.
      if (distance(fit_.centre, first_centre_) > 0.5 * fit_.radius + 4 || fit_.radius < 2)
        return std::nullopt;
      settled = round >= 2 && s.change.head<5>().norm() < 1.5e-3;
    }
    if (!settled) s = step(true);
    if (!s.good) return std::nullopt;
    summarise(s);
    return fit_;
  }

 private:
  using Vector6 = Eigen::Matrix<double, 6, 1>;
  using Matrix6 = Eigen::Matrix<double, 6, 6>;
  struct Sector {
    Matrix6 normal = Matrix6::Zero();
    Vector6 right = Vector6::Zero();
    Eigen::Matrix<double, 6, 2> mixed = Eigen::Matrix<double, 6, 2>::Zero();
    Eigen::Matrix2d light = Eigen::Matrix2d::Zero();
    Eigen::Vector2d light_right = Eigen::Vector2d::Zero();
    double squares = 0, count = 0;
    double inside = 0, outside = 0;  ///< grey levels
    double offset = 0;               ///< pixels that this sector alone would move the rim outwards
    double contrast() const { return outside - inside; }
  };
  struct Step {
    bool good = false;
    Vector6 change = Vector6::Zero();
    Matrix6 information = Matrix6::Zero();
    std::vector<Sector> sectors;
    std::vector<Vector6> pulls;  ///< of the sectors that are seen, weighed
    double variance = 0;
  };

  struct Pixel {
    size_t sector;
    double grey, phi;  ///< share of the outside's light
    Vector6 slope;     ///< of phi
  };

  /// Every pixel near the rim, with what the parameters do to it.
  void gather() {
    pixels_.clear();
    const double band = 2.6 * fit_.blur + 1.5, r = fit_.radius;
    const double most = fit_.long_axis() + band;
    const int x0 = std::max(0, static_cast<int>(std::floor(fit_.centre.x - most))),
              x1 = std::min(picture_.width() - 1, static_cast<int>(std::ceil(fit_.centre.x + most))),
              y0 = std::max(0, static_cast<int>(std::floor(fit_.centre.y - most))),
              y1 = std::min(picture_.height() - 1, static_cast<int>(std::ceil(fit_.centre.y + most)));
    const double p = r + fit_.a, q = fit_.b, s = r - fit_.a, det = p * s - q * q;
    if (!(det > 1)) return;
    const double hole = std::max(0.0, fit_.short_axis() - band - 1);
    const double per_det = 1 / det, per_blur = 1 / fit_.blur, pulled = fit_.blur * fit_.blur / (2 * r);
    for (int y = y0; y <= y1; ++y) {
      // What lies inside the rim is passed over.
      const double dy = y - fit_.centre.y, half = std::sqrt(std::max(0.0, hole * hole - dy * dy));
      const int hole_from = half > 1 ? static_cast<int>(std::ceil(fit_.centre.x - half)) : x1 + 1,
                hole_to = static_cast<int>(std::floor(fit_.centre.x + half));
      for (int x = x0; x <= x1; ++x) {
        if (x >= hole_from && x <= hole_to) {
          x = hole_to;
          continue;
        }
        const Point2 d = Point2{static_cast<double>(x), static_cast<double>(y)} - fit_.centre;
        const double square = dot(d, d);
        if (square > (most + 1) * (most + 1)) continue;
        // u = A^-1 d; F = |u| - 1; the distance is F over the length of its gradient.
        const Point2 u{(s * d.x - q * d.y) * per_det, (p * d.y - q * d.x) * per_det};
        const double rho = std::sqrt(dot(u, u));
        if (rho < 0.1) continue;
        const Point2 e = u * (1 / rho), slope{(s * e.x - q * e.y) * per_det, (p * e.y - q * e.x) * per_det};
        const double per_steep = 1 / std::sqrt(dot(slope, slope)), away = (rho - 1) * per_steep;
        if (std::abs(away) > band) continue;
        // Blur pulls a curved edge towards its centre.
        const double z = (away + pulled) * per_blur;
        Pixel pixel;
        pixel.sector = sector_of(e);
        pixel.grey = picture_(x, y);
        const auto [phi, density] = blurred_step(z);
        pixel.phi = phi;
        const double bell = density * per_blur;
        const Point2 normal = slope * per_steep;
        // d away: the centre moves it by -normal, r by -1, a and b by the ellipse's own turn.
        const double stretch_a = -(normal.x * e.x - normal.y * e.y),
                     stretch_b = -(normal.x * e.y + normal.y * e.x);
        pixel.slope << -bell * normal.x, -bell * normal.y, -bell * dot(normal, e), bell * stretch_a,
            bell * stretch_b,
            -bell * z * fit_.blur;  // by the logarithm of the blur
        pixels_.push_back(pixel);
      }
    }
  }

  /// By an arc tangent that errs by 0.004: where exactly one sector ends does not matter.
  size_t sector_of(Point2 e) const {
    const double x = std::abs(e.x), y = std::abs(e.y), flat = std::min(x, y) / std::max(x, y);
    double turn = flat * (0.25 * std::numbers::pi + 0.273 * (1 - flat));
    if (y > x) turn = 0.5 * std::numbers::pi - turn;
    if (e.x < 0) turn = std::numbers::pi - turn;
    if (e.y < 0) turn = 2 * std::numbers::pi - turn;
    return std::min(sectors_ - 1,
                    static_cast<size_t>(turn * static_cast<double>(sectors_) / (2 * std::numbers::pi)));
  }

  /// True when the edge there is as strong as it must be.
  bool solve_light(Sector& sector) const {
    const Eigen::Vector2d light = sector.light.inverse() * sector.light_right;
    sector.inside = light[0], sector.outside = light[1];
    return (dark_ ? sector.contrast() : -sector.contrast()) >= least_contrast_;
  }

  /// Sectors are lit alike as far as they show it: each level is drawn towards the median of all, as strongly
  /// as they keep together. A sector alone could take a shifted edge for other light, which costs half of
  /// what it knows.
  void share_light(Step& s, const std::vector<bool>& fits) const {
    for (const int side : {0, 1}) {
      std::vector<double> levels;
      double estimated = 0;
      for (size_t i = 0; i < sectors_; ++i) {
        if (!fits[i]) continue;
        levels.push_back(side == 0 ? s.sectors[i].inside : s.sectors[i].outside);
        estimated += noise_ * noise_ * s.sectors[i].light.inverse()(side, side);
      }
      if (levels.size() < 4) return;
      estimated /= static_cast<double>(levels.size());
      const auto middle = levels.begin() + static_cast<ptrdiff_t>(levels.size() / 2);
      std::nth_element(levels.begin(), middle, levels.end());
      const double median = *middle;
      for (double& level : levels) level = std::abs(level - median);
      std::nth_element(levels.begin(), middle, levels.end());
      const double apart = 1.4826 * *middle;
      const double variance = std::max(apart * apart - estimated, 0.01 * noise_ * noise_);
      const double weight = noise_ * noise_ / variance;
      for (size_t i = 0; i < sectors_; ++i)
        s.sectors[i].light(side, side) += weight, s.sectors[i].light_right[side] += weight * median;
    }
  }

  Step step(bool judge) {
    gather();
    Step s;
    s.sectors.resize(sectors_);
    // The light first: level inside and outside of each sector.
    for (const Pixel& p : pixels_) {
      Sector& sector = s.sectors[p.sector];
      const Eigen::Vector2d j(1 - p.phi, p.phi);
      sector.light += j * j.transpose(), sector.light_right += p.grey * j, sector.count += 1;
    }
    std::vector<bool> fits(sectors_, false);
    for (size_t i = 0; i < sectors_; ++i) {
      Sector& sector = s.sectors[i];
      fits[i] = sector.count >= 8 && std::abs(sector.light.determinant()) > 1e-3 && solve_light(sector);
    }
    share_light(s, fits);
    for (size_t i = 0; i < sectors_; ++i)
      if (fits[i]) fits[i] = solve_light(s.sectors[i]);
    for (const Pixel& p : pixels_) {
      Sector& sector = s.sectors[p.sector];
      if (!fits[p.sector]) continue;
      const double residual = p.grey - sector.inside - sector.contrast() * p.phi;
      const Vector6 j = sector.contrast() * p.slope;
      const Eigen::Vector2d l(1 - p.phi, p.phi);
      sector.normal += j * j.transpose(), sector.right += residual * j, sector.mixed += j * l.transpose();
      sector.squares += residual * residual;
    }
    // What one sector says by itself: how far its edge lies outwards, and how well the edge explains it.
    std::vector<double> scatter;
    for (size_t i = 0; i < sectors_; ++i) {
      Sector& sector = s.sectors[i];
      if (!fits[i]) continue;
      const Eigen::Matrix2d inverse = sector.light.inverse();
      sector.normal -= sector.mixed * inverse * sector.mixed.transpose();  // the light is unknown
      if (sector.normal(2, 2) > 1e-9) sector.offset = sector.right[2] / sector.normal(2, 2);
      scatter.push_back(sector.squares / sector.count);
    }
    if (scatter.size() < 4) return s;
    std::nth_element(scatter.begin(), scatter.begin() + static_cast<ptrdiff_t>(scatter.size() / 2),
                     scatter.end());
    const double usual = std::max(scatter[scatter.size() / 2], noise_ * noise_);
    const double off_centre = usual_offset(s, fits);
    double squares = 0, count = 0;
    for (size_t i = 0; i < sectors_; ++i) {
      const Sector& sector = s.sectors[i];
      const double contrast = std::abs(sector.contrast()), variance = sector.squares / sector.count;
      seen_[i] = fits[i];
      if (judge && fits[i])
        seen_[i] = std::abs(sector.offset) < 1.2 &&
                   std::sqrt(variance) < std::max(3.5 * std::sqrt(usual), 0.12 * contrast);
      if (!seen_[i]) continue;
      // What lies near a rim pulls a sector aside, or makes it fit badly: it then counts little (Tukey).
      double most = std::max(1.0, 4.5 * off_centre);
      if (judge)
        most =
            std::max({4.7 * std::sqrt(usual / std::max(sector.normal(2, 2), 1e-9)), 4.5 * off_centre, 0.04});
      const double t = sector.offset / most, w = std::abs(t) < 1 ? (1 - t * t) * (1 - t * t) : 0;
      if (w == 0) {  // an edge, but not this rim's
        seen_[i] = !judge;
        continue;
      }
      const double clean = std::min(1.0, 1.5 * usual / std::max(variance, 1e-9));
      s.information += w * clean * sector.normal, s.change += w * clean * sector.right;
      s.pulls.push_back(w * clean * sector.right);
      squares += w * clean * sector.squares, count += w * clean * (sector.count - 2);
    }
    if (count < 24) return s;
    s.variance = squares / (count - 6);
    Matrix6 held = s.information;
    held.diagonal() *= 1 + 1e-9;
    held(5, 5) += 4 * s.variance;  // the blur is about what it was
    const Eigen::LDLT<Matrix6> solver(held);
    s.change = solver.solve(s.change);
    s.good = s.change.allFinite() && solver.isPositive();
    return s;
  }

  /// Median size of the sectors' offsets.
  double usual_offset(const Step& s, const std::vector<bool>& fits) const {
    std::vector<double> sizes;
    for (size_t i = 0; i < sectors_; ++i)
      if (fits[i]) sizes.push_back(std::abs(s.sectors[i].offset));
    std::nth_element(sizes.begin(), sizes.begin() + static_cast<ptrdiff_t>(sizes.size() / 2), sizes.end());
    return sizes[sizes.size() / 2];
  }

  void apply(const Vector6& full) {
    Vector6 c = full;
    const double size = c.head<5>().norm();
    if (size > 2) c *= 2 / size;
    fit_.centre += Point2{c[0], c[1]};
    fit_.radius += c[2], fit_.a += c[3], fit_.b += c[4];
    const double most = 0.45 * fit_.radius, oval = std::hypot(fit_.a, fit_.b);
    if (oval > most) fit_.a *= most / oval, fit_.b *= most / oval;
    fit_.blur = std::clamp(fit_.blur * std::exp(std::clamp(c[5], -0.4, 0.4)), 0.45, 4.0);
  }

  void summarise(const Step& s) {
    Matrix6 held = s.information;
    held.diagonal() *= 1 + 1e-9;
    const Matrix6 inverse = held.inverse();
    // As the pixels' noise has it, or as whole sectors disagree where that is more: what hides a rim, shines
    // into it or lies beside it pulls at all pixels of a sector.
    const Matrix6 by_noise = inverse * s.variance, by_sectors = covariance_of_cells(s.pulls, inverse);
    const auto sigma = [&](int i) { return std::sqrt(std::max({by_noise(i, i), by_sectors(i, i), 0.0})); };
    fit_.sigma_x = sigma(0), fit_.sigma_y = sigma(1), fit_.sigma_radius = sigma(2);
    fit_.noise = std::sqrt(s.variance);
    fit_.seen.assign(seen_.begin(), seen_.end());
    std::vector<double> contrasts;
    std::vector<double> offsets;
    double noise = 0;
    for (size_t i = 0; i < sectors_; ++i) {
      if (!seen_[i]) continue;
      contrasts.push_back(std::abs(s.sectors[i].contrast()));
      offsets.push_back(std::abs(s.sectors[i].offset));
      noise += s.variance / std::max(s.sectors[i].normal(2, 2), 1e-9);
    }
    const auto count = static_cast<double>(contrasts.size());
    fit_.rim = count / static_cast<double>(sectors_);
    if (contrasts.empty()) return;
    // By the median: what hides a few sectors is told by the share that is seen.
    std::nth_element(offsets.begin(), offsets.begin() + static_cast<ptrdiff_t>(offsets.size() / 2),
                     offsets.end());
    const double usual = 1.4826 * offsets[offsets.size() / 2];
    fit_.scatter = std::sqrt(std::max(0.0, usual * usual - noise / count));  // beyond what noise makes of it
    std::nth_element(contrasts.begin(), contrasts.begin() + static_cast<ptrdiff_t>(contrasts.size() / 2),
                     contrasts.end());
    fit_.contrast = contrasts[contrasts.size() / 2];
    constexpr double slack = 1.15;  // of the noise' own uncertainty
    fit_.misfit =
        std::sqrt(std::max(0.0, s.variance - slack * noise_ * noise_)) / std::max(fit_.contrast, 1.0);
  }

  const Image<uint8_t>& picture_;
  RimFit fit_;
  bool dark_;
  double least_contrast_, noise_;
  size_t sectors_;
  std::vector<bool> seen_;
  std::vector<Pixel> pixels_;
  Point2 first_centre_ = fit_.centre;
};

}  // namespace

std::optional<RimWave> settle_rim(const Survey& survey, const RimGuess& guess, const RimSearch& search) {
  int level =
      std::clamp(static_cast<int>(std::floor(std::log2(guess.radius / 7))), 0, survey.level_count() - 1);
  double scale = std::ldexp(1.0, -level);
  const double slack = 0.05 * guess.radius + 1 / scale;
  RimWave wave{to_level(guess.centre, level), guess.radius * scale, {}};
  double less = (guess.radius - search.least_radius + slack) * scale,
         more = (search.most_radius - guess.radius + slack) * scale;
  less += 1.5, more += 1.5;  // the centre is known to a pixel or two
  // What two pixels show of a rim, and noise does not.
  const auto contrast_on = [&](int index) {
    return std::max(0.5 * search.least_contrast, 3 * survey.noise_sigma(index));
  };
  std::vector<RayHit> hits =
      hits_along_rays(survey.level(level), wave, less, more, first_rays, search.dark, contrast_on(level));
  const auto circle =
      agreed_circle(hits, wave, 1.2, (search.least_radius - slack) * scale,
                    (search.most_radius + slack) * scale, 0.5 * search.least_rim * first_rays);
  if (!circle) return std::nullopt;
  wave = *circle;
  for (;;) {
    const int rays = std::clamp(static_cast<int>(2 * std::numbers::pi * wave.radius / 2), 32, 128);
    int near = 0;
    // Narrow from the start: an edge that cuts a part of the rim off runs near it at its ends.
    for (const double within : {1.6, 1.2, 1.2}) {
      hits = hits_along_rays(survey.level(level), wave, within + 1.5, within + 1.5, rays, search.dark,
                             contrast_on(level));
      near = settle(wave, hits, within, wave.radius > 12);
      if (near < 6) return std::nullopt;
    }
    wave.met = static_cast<double>(near) / rays;
    if (wave.met < 0.75 * search.least_rim) return std::nullopt;
    if (level == 0) break;
    --level;
    wave.centre = to_level(from_level(wave.centre, level + 1), level);
    wave.radius *= 2, wave.even = wave.even * 2;
  }
  return wave;
}

std::optional<RimFit> fit_rim(const Survey& survey, const RimWave& wave, const RimSearch& search) {
  RimFit start;
  start.centre = wave.centre, start.radius = wave.radius;
  start.a = wave.even.x, start.b = wave.even.y;
  start.blur = 0.9;
  return GreyRim(survey.level(0), start, search.dark, search.least_contrast, survey.noise_sigma(0)).run();
}

}  // namespace heron
