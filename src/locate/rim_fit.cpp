#include <Eigen/Cholesky>
#include <Eigen/Eigenvalues>
#include <algorithm>
#include <array>
#include <cmath>

#include "cells.hpp"
#include "heron/geometry/robust_fit.hpp"
#include "rim.hpp"
#include "rim_sums.hpp"

namespace heron {
namespace {

/// The grey values along a rim, and the ellipse that explains them.
class GreyRim {
  static constexpr double worth_of_blinded = 0.1;     // beside other sectors
  static constexpr double worth_beside_unseen = 0.6;  // what hides a sector reaches into its neighbours
  // What makes the brightness beside a rim uneven is shared by sectors within so many pixels.
  static constexpr double uneven_stretch = 24;

 public:
  GreyRim(const Image<uint8_t>& picture, const RimFit& start, bool dark, double least_contrast, double noise)
      : picture_(picture),
        fit_(start),
        dark_(dark),
        least_contrast_(least_contrast),
        noise_(std::max(noise, 0.3)) {
    const int sectors = static_cast<int>(2 * std::numbers::pi * start.radius / 9);
    part_into(std::vector<bool>(static_cast<size_t>(std::clamp(sectors, 8, 64)), true));
  }

  std::optional<RimFit> run() {
    Step s = settled(8, false);
    if (!s.good) return std::nullopt;
    summarise(s);
    if (std::count(seen_.begin(), seen_.end(), false) == 0) return fit_;
    // Beside what hides a part of the rim finer sectors lose less; how uneven the light is, coarse ones tell.
    const RimFit coarse = fit_;
    split_sectors();
    Step fine = settled(4, true);
    if (!fine.good) return coarse;  // too few pixels in each
    fine.uneven = s.uneven;
    summarise(fine);
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
    double level = 0;                ///< grey levels that `light_right` counts from
    double inside = 0, outside = 0;  ///< grey levels
    double offset = 0;               ///< pixels that this sector alone would move the rim outwards
    double contrast() const { return outside - inside; }
    double level_on(int side) const { return side == 0 ? inside : outside; }
  };
  struct Step {
    bool good = false;
    Vector6 change = Vector6::Zero();
    Matrix6 information = Matrix6::Zero();
    std::vector<Sector> sectors;
    std::vector<Vector6> pulls;  ///< of the sectors that are seen, weighed
    double variance = 0;
    double uneven = 0;                ///< squared ramp of the brightness beside the rim, see `uneven_ramp`
    Matrix6 moved = Matrix6::Zero();  ///< what such a ramp in each sector does, over its square
    Matrix6 round = Matrix6::Zero();  ///< how strongly the rim is held at a circle
    /// The light that sectors share: level and its growth along x and y, inside, then outside; and how
    /// strongly they keep to it. Its own uncertainty is part of the ellipse's.
    Vector6 shared = Vector6::Zero();
    Eigen::Vector2d keep = Eigen::Vector2d::Zero();
    /// How strongly the light's slope is held at none; a level is not.
    Vector6 hold = (Vector6() << 0, firmly, firmly, 0, firmly, firmly).finished();
    static constexpr double firmly = 1e9;
  };

  /// As many sectors as `seen` tells of.
  void part_into(std::vector<bool> seen) {
    seen_ = std::move(seen);
    sectors_ = seen_.size();
    middles_.clear(), lights_.clear();
    pixels_ = {};
    for (size_t i = 0; i < sectors_; ++i)
      middles_.push_back(unit(
          radians(2 * std::numbers::pi * (static_cast<double>(i) + 0.5) / static_cast<double>(sectors_))));
  }

  void split_sectors() {
    std::vector<bool> halves;
    for (const bool seen : seen_) halves.insert(halves.end(), 2, seen);
    part_into(std::move(halves));
  }

  /// The last of at most so many steps; `judge` says whether sectors are judged from the first on.
  Step settled(int rounds, bool judge) {
    constexpr double near = 0.1, still = 2e-3;  // pixels
    for (int round = 0; round < rounds; ++round) {
      judge = judge || round == 2;
      Step s = step(judge);
      if (!s.good) return s;
      apply(s.change);
      // A rim that walks off is none.
      s.good = distance(fit_.centre, first_centre_) <= 0.5 * fit_.radius + 4 && fit_.radius >= 2;
      const double moved = s.change.head<5>().norm();
      if (!s.good || (judge && moved < still)) return s;
      judge = judge || moved < near;  // sectors are judged by a rim that is about where it will be
    }
    return step(true);
  }

  /// What a sector of that light wants of the ellipse.
  static void weigh_slopes(Sector& sector, const RimSums& sum) {
    const double contrast = sector.contrast(), in = sector.inside - sector.level,
                 out = sector.outside - sector.level;
    for (int a = 0, k = 0; a < 6; ++a) {
      const auto at = static_cast<size_t>(a);
      for (int b = a; b < 6; ++b, ++k)
        sector.normal(a, b) = sector.normal(b, a) = contrast * contrast * sum.slopes[static_cast<size_t>(k)];
      sector.mixed(a, 0) = contrast * sum.inside[at], sector.mixed(a, 1) = contrast * sum.outside[at];
      sector.right[a] = contrast * (sum.grey[at] - in * sum.inside[at] - out * sum.outside[at]);
    }
    const double of_light = in * (in * sum.light[0] + 2 * out * sum.light[1]) + out * out * sum.light[2],
                 of_both = in * sum.light_grey[0] + out * sum.light_grey[1];
    sector.squares = std::max(0.0, sum.grey_square - 2 * of_both + of_light);
  }

  /// True when the edge there is as strong as it must be.
  bool solve_light(Sector& sector) const {
    const Eigen::Vector2d light = sector.light.inverse() * sector.light_right;
    sector.inside = sector.level + light[0], sector.outside = sector.level + light[1];
    return (dark_ ? sector.contrast() : -sector.contrast()) >= least_contrast_;
  }

  /// Sectors are lit alike, or as a lamp that stands aside lights them, as far as they show it: each level is
  /// drawn towards that of a plane of light through all, as strongly as they keep to it. A sector alone could
  /// take a shifted edge for other light, which costs half of what it knows.
  void share_light(Step& s, const std::vector<bool>& fits) const {
    constexpr size_t enough_for_a_plane = 8;
    constexpr double dark = 0.25;  // beside the other side: there the same light slopes less than is told
    const std::array<double, 2> usual{usual_level(s, fits, 0), usual_level(s, fits, 1)};
    for (const int side : {0, 1}) {
      std::vector<FitRow<3>> rows;
      std::vector<double> levels;
      std::vector<size_t> which;
      double estimated = 0;
      for (size_t i = 0; i < sectors_; ++i) {
        if (!fits[i]) continue;
        const Point2 u = middles_[i];
        rows.push_back({{1, u.x, u.y}, s.sectors[i].level_on(side)});
        levels.push_back(s.sectors[i].level_on(side));
        which.push_back(i);
        estimated += noise_ * noise_ * s.sectors[i].light.inverse()(side, side);
      }
      if (levels.size() < 4) return;
      estimated /= static_cast<double>(levels.size());
      const auto at = static_cast<size_t>(side);
      Eigen::Vector3d light(usual[at], 0, 0);
      if (usual[at] > dark * usual[1 - at] && rows.size() >= enough_for_a_plane)
        slope_light(rows, estimated, light, s.hold.segment<2>(3 * side + 1));
      for (size_t i = 0; i < rows.size(); ++i) levels[i] = rows[i].value - rows[i].terms.dot(light);
      s.uneven += uneven_ramp(levels, which, estimated);
      const double apart = 1.4826 * median_size(levels);
      const double variance = std::max(apart * apart - estimated, 0.01 * noise_ * noise_);
      const double weight = noise_ * noise_ / variance;
      s.shared.segment<3>(3 * side) = light, s.keep[side] = weight;
      for (size_t i = 0; i < sectors_; ++i) {
        const double there = (shares_of(i) * s.shared)[side];
        s.sectors[i].light(side, side) += weight;
        s.sectors[i].light_right[side] += weight * (there - s.sectors[i].level);
      }
    }
  }

  /// The median level of the sectors inside (side 0) or outside (1); 0 of none.
  double usual_level(const Step& s, const std::vector<bool>& fits, int side) const {
    std::vector<double> levels;
    for (size_t i = 0; i < sectors_; ++i)
      if (fits[i]) levels.push_back(s.sectors[i].level_on(side));
    if (levels.empty()) return 0;
    const auto middle = levels.begin() + static_cast<ptrdiff_t>(levels.size() / 2);
    std::nth_element(levels.begin(), middle, levels.end());
    return *middle;
  }

  /// How steep the brightness beside the rim is where it is uneven, squared, in grey levels a pixel: what
  /// neighbouring sectors differ by, beyond the plane of light and beyond noise.
  double uneven_ramp(const std::vector<double>& levels, const std::vector<size_t>& which,
                     double variance_of_level) const {
    std::vector<double> steps;
    for (size_t k = 0; k < which.size(); ++k) {
      const size_t next = (k + 1) % which.size();
      if (which[next] == (which[k] + 1) % sectors_) steps.push_back(levels[next] - levels[k]);
    }
    if (steps.size() < 3) return 0;
    const double step = 1.4826 * median_size(steps), arc = sector_arc();
    return std::max(0.0, step * step - 2 * variance_of_level) / (arc * arc);
  }

  double sector_arc() const { return 2 * std::numbers::pi * fit_.radius / static_cast<double>(sectors_); }

  /// Where most of the bright side is as bright as pixels can be, its level is not known, and the edge seems
  /// to lie farther on the dark side than it does.
  bool is_blinded(size_t sector) const { return pixels_.blinded[sector] > 0.3f; }

  /// What two further unknowns must come to, their squares over their variances, before they are evident:
  /// when they explain so much better what is seen as they cost, if before looking the square of each is
  /// about `likely` and `own` the variance that it can be known to (evidence of models: MacKay, Bayesian
  /// interpolation, Neural Computation 4, 1992).
  static double evident_from(double likely, double own) { return 2 * std::log1p(likely / own); }

  /// The plane of light through the sectors' levels: even until a slope is evident - before looking, of a
  /// tenth of the light along the radius -, then as steep as it is beyond noise (empirical Bayes). A slope
  /// for nothing would cost what it could explain as a shift.
  void slope_light(const std::vector<FitRow<3>>& rows, double variance_of_level, Eigen::Vector3d& light,
                   Eigen::Ref<Eigen::Vector2d> hold) const {
    const auto plane = fit_robustly<3>(rows, light, {.least = noise_, .rounds = 3, .sigmas_known = false});
    if (!plane.determined) return;
    const double by_noise = std::max(1e-12, 2 * variance_of_level / static_cast<double>(rows.size())),
                 least = by_noise * evident_from(std::pow(0.1 * light[0], 2), by_noise),
                 beyond = 0.5 * (plane.unknowns.tail<2>().squaredNorm() - least);
    if (!(beyond > 0)) return;
    light = plane.unknowns;
    light.tail<2>() *= beyond / (beyond + by_noise);
    hold.setConstant(noise_ * noise_ / beyond);
  }

  /// What each number of the shared light is to a sector's own inside and outside.
  Eigen::Matrix<double, 2, 6> shares_of(size_t sector) const {
    const Point2 u = middles_[sector];
    Eigen::Matrix<double, 2, 6> shares = Eigen::Matrix<double, 2, 6>::Zero();
    shares.row(0).head<3>() << 1, u.x, u.y;
    shares.row(1).tail<3>() << 1, u.x, u.y;
    return shares;
  }

  Step step(bool judge) {
    if (!pixels_.serve(fit_)) pixels_ = pixels_near(picture_, fit_, sectors_);
    rim_sums(pixels_, fit_, lights_, sums_);
    Step s;
    s.sectors.resize(sectors_);
    // The light first: level inside and outside of each sector.
    std::vector<bool> fits(sectors_, false);
    for (size_t i = 0; i < sectors_; ++i) {
      Sector& sector = s.sectors[i];
      const RimSums& sum = sums_[i];
      sector.level = pixels_.level[i], sector.count = sum.count;
      sector.light << sum.light[0], sum.light[1], sum.light[1], sum.light[2];
      sector.light_right << sum.light_grey[0], sum.light_grey[1];
      fits[i] = sector.count >= 8 && std::abs(sector.light.determinant()) > 1e-3 && solve_light(sector);
    }
    share_light(s, fits);
    for (size_t i = 0; i < sectors_; ++i)
      if (fits[i]) fits[i] = solve_light(s.sectors[i]);
    for (size_t i = 0; i < sectors_; ++i)
      if (fits[i]) weigh_slopes(s.sectors[i], sums_[i]);
    lights_.clear();
    for (size_t i = 0; i < sectors_; ++i) {
      const Sector& sector = s.sectors[i];
      lights_.push_back(is_blinded(i) ? RimLight{-1e6, -1e6} : RimLight{sector.inside, sector.outside});
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
    const std::vector<double> clear = judge ? clearness(s, fits, usual) : std::vector<double>(sectors_, 1);
    double squares = 0, count = 0;
    const std::vector<bool> before = seen_;
    Matrix6 with_shared = Matrix6::Zero(), of_shared = Matrix6::Zero();
    std::vector<Vector6> shared_pulls;
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
        most = std::max({6 * std::sqrt(usual / std::max(sector.normal(2, 2), 1e-9)), 4.5 * off_centre, 0.04});
      const double t = sector.offset / most, w = std::abs(t) < 1 ? (1 - t * t) * (1 - t * t) : 0;
      if (w == 0) {  // an edge, but not this rim's
        seen_[i] = !judge;
        continue;
      }
      double clean = clear[i] * std::min(1.0, usual / std::max(variance, 1e-9));
      if (!before[(i + 1) % sectors_] || !before[(i + sectors_ - 1) % sectors_]) clean *= worth_beside_unseen;
      squares += w * clean * sector.squares, count += w * clean * (sector.count - 2);
      if (is_blinded(i)) clean *= worth_of_blinded;
      s.information += w * clean * sector.normal, s.change += w * clean * sector.right;
      s.pulls.push_back(w * clean * sector.right);
      const Vector6 outwards = w * clean * sector.normal.col(2) / sector.contrast();
      s.moved += outwards * outwards.transpose();
      const Eigen::Matrix2d keep = s.keep.asDiagonal(), held = sector.light.inverse() * keep;
      const Eigen::Matrix<double, 2, 6> shares = shares_of(i);
      with_shared += w * clean * sector.mixed * held * shares;
      of_shared += w * clean * shares.transpose() * (keep - keep * held) * shares;
      shared_pulls.push_back(w * clean * shares.transpose() * keep *
                             (Eigen::Vector2d(sector.inside, sector.outside) - shares * s.shared));
    }
    if (count < 24) return s;
    s.variance = squares / (count - 6);
    // The shared light is settled together with the ellipse.
    for (int i = 0; i < 6; ++i) of_shared(i, i) += 1e-9 + 1e-9 * of_shared(i, i) + s.hold[i];
    const Matrix6 instead = of_shared.ldlt().solve(with_shared.transpose()).transpose();
    s.information -= instead * with_shared.transpose();
    for (size_t i = 0; i < s.pulls.size(); ++i)
      s.pulls[i] -= instead * shared_pulls[i], s.change -= instead * shared_pulls[i];
    s.change += instead * s.hold.cwiseProduct(s.shared);
    Matrix6 held = s.information;
    held.diagonal() *= 1 + 1e-9;
    held(5, 5) += 4 * s.variance;  // the blur is about what it was
    hold_round(s, held);
    held += s.round;
    const Eigen::LDLT<Matrix6> solver(held);
    s.change = solver.solve(s.change);
    s.good = s.change.allFinite() && solver.isPositive();
    return s;
  }

  /// A rim is a circle until an oval explains it so much better as its two further unknowns cost (evidence of
  /// models: MacKay, Bayesian interpolation, Neural Computation 4, 1992; before looking, as oval as a tilt of
  /// 25 degrees makes it). How oval it is then counts as far as that is beyond noise (empirical Bayes; the
  /// variance beyond noise after Paule, Mandel, Consensus values and weighting factors, J. Res. NBS 87,
  /// 1982). Where a third of the rim is hidden, an oval for nothing explains most of what a shift would.
  void hold_round(Step& s, const Matrix6& held) const {
    const Matrix6 inverse = held.inverse(), by_noise = inverse * s.variance,
                  by_sectors = covariance_of_cells(s.pulls, inverse);
    const auto of_oval = [](const Matrix6& m) -> Eigen::Matrix2d { return m.block<2, 2>(3, 3); };
    const double wider = std::max(1.0, of_oval(by_sectors).trace() / of_oval(by_noise).trace());
    const Eigen::Vector2d oval = Eigen::Vector2d(fit_.a, fit_.b) + (inverse * s.change).segment<2>(3);
    const Eigen::SelfAdjointEigenSolver<Eigen::Matrix2d> axes(of_oval(by_noise) * wider);
    const Eigen::Array2d own = axes.eigenvalues().array().max(1e-12),
                         along = (axes.eigenvectors().transpose() * oval).array();
    const bool is_oval =
        (along.square() / own).sum() > evident_from(std::pow(0.05 * fit_.radius, 2), own.mean());
    double beyond = 0;
    for (int i = 0; i < 10 && is_oval; ++i) {
      const Eigen::Array2d weight = 1 / (own + beyond).square();
      beyond = std::max(0.0, (weight * (along.square() - own)).sum() / weight.sum());
    }
    const double weight = beyond * Step::firmly > s.variance ? s.variance / beyond : Step::firmly;
    s.round(3, 3) = s.round(4, 4) = weight;
    s.change[3] -= weight * fit_.a, s.change[4] -= weight * fit_.b;
  }

  /// How far each sector's band is free of other things, 0 to 1: what reaches into it - the edge of a plate,
  /// a thing seen through a hole - shows in the means of its far rings, long before it shows in the scatter
  /// of single pixels, and pulls at the edge. `variance` is that of a pixel.
  std::vector<double> clearness(const Step& s, const std::vector<bool>& fits, double variance) const {
    constexpr double certain = 7,
                     beyond_usual = 4;  // squares of means over their variance, of the worst ring
    std::vector<double> worst(sectors_, 0), of_all;
    for (size_t i = 0; i < sectors_; ++i) {
      if (!fits[i]) continue;
      const Sector& sector = s.sectors[i];
      const double in = sector.inside - sector.level, out = sector.outside - sector.level;
      for (const RimSums::Ring& ring : sums_[i].rings) {
        if (ring.count < 4) continue;
        const double left = ring.grey - in * (ring.count - ring.phi) - out * ring.phi;
        worst[i] = std::max(worst[i], left * left / (ring.count * variance));
      }
      of_all.push_back(worst[i]);
    }
    const double limit = std::max(certain, beyond_usual * median_size(of_all));
    std::vector<double> clear(sectors_, 1);
    for (size_t i = 0; i < sectors_; ++i)
      if (worst[i] > limit) clear[i] = std::pow(limit / worst[i], 2);
    return clear;
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
    const Matrix6 inverse = (held + s.round).inverse();
    // As the pixels' noise and uneven brightness have it, or as whole sectors disagree where that is more:
    // what hides a rim, shines into it or lies beside it pulls at all pixels of a sector.
    // A ramp on one side moves the blurred step that is fitted to the band by so many times the ramp over the
    // contrast (least squares of both, blur 0.6 to 2.2).
    const double moves = fit_.blur * (1.3 + 2 * fit_.blur),
                 shared = std::max(1.0, uneven_stretch / sector_arc());
    const Matrix6 by_pixels =
        inverse * s.variance + inverse * s.moved * inverse * (s.uneven * moves * moves * shared);
    const double free = (inverse * s.information).trace();
    const Matrix6 by_sectors =
        covariance_of_cells(s.pulls, inverse, free) + inverse * s.round * inverse * s.variance;
    const auto sigma = [&](int i) { return std::sqrt(std::max({by_pixels(i, i), by_sectors(i, i), 0.0})); };
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
  size_t sectors_ = 0;
  std::vector<Point2> middles_;  ///< directions of the sectors
  std::vector<bool> seen_;
  RimPixels pixels_;
  std::vector<RimSums> sums_;
  std::vector<RimLight> lights_;  ///< of the sectors, from round to round
  Point2 first_centre_ = fit_.centre;
};

}  // namespace

std::optional<RimFit> fit_rim(const Survey& survey, const RimWave& wave, const RimSearch& search) {
  RimFit start;
  start.centre = wave.centre, start.radius = wave.radius;
  start.a = wave.even.x, start.b = wave.even.y;
  start.blur = 0.9;
  return GreyRim(survey.level(0), start, search.dark, search.least_contrast, survey.noise_sigma(0)).run();
}

}  // namespace heron
