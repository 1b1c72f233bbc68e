#include <Eigen/Cholesky>
#include <Eigen/Eigenvalues>
#include <algorithm>
#include <cmath>

#include "base/tukey.hpp"
#include "heron/base/median.hpp"
#include "locate/common/cells.hpp"
#include "rim.hpp"
#include "rim_light.hpp"

namespace heron {
namespace {

/// The grey values along a rim, and the ellipse that explains them.
class GreyRim {
  static constexpr double worth_of_blinded = 0.1;     // beside other sectors
  static constexpr double worth_beside_unseen = 0.6;  // what hides a sector reaches into its neighbours
  // What makes the brightness beside a rim uneven is shared by sectors within so many pixels.
  static constexpr double uneven_stretch = 24;

 public:
  GreyRim(const Image<uint8_t>& picture, const RimFit& start, bool dark, double min_contrast, double noise)
      : picture_(picture),
        fit_(start),
        dark_(dark),
        min_contrast_(min_contrast),
        noise_(std::max(noise, 0.3)),
        parting_(std::vector<bool>(
            static_cast<size_t>(std::clamp(static_cast<int>(2 * std::numbers::pi * start.radius / 9), 8, 64)),
            true)) {}

  std::optional<RimFit> run() {
    Step s = settled(8, false);
    if (!s.good) return std::nullopt;
    summarise(s);
    if (parting_.all_seen()) return fit_;
    // Beside what hides a part of the rim finer sectors lose less; how uneven the light is, coarse ones tell.
    const RimFit coarse = fit_;
    part_anew(parting_.halved());
    Step fine = settled(4, true);
    if (!fine.good) return coarse;  // too few pixels in each
    fine.light.uneven = s.light.uneven;
    summarise(fine);
    return fit_;
  }

 private:
  struct Step {
    bool good = false;
    RimVector change = RimVector::Zero();
    RimMatrix information = RimMatrix::Zero();
    std::vector<RimSector> sectors;
    std::vector<bool> lit;                 ///< sectors with an edge as strong as it must be
    std::vector<RimVector> contributions;  ///< of the sectors that are seen, weighed
    double variance = 0;
    SharedLight light;
    RimMatrix moved = RimMatrix::Zero();  ///< what a ramp of light in each sector does, over its square
    RimMatrix round = RimMatrix::Zero();  ///< how strongly the rim is held at a circle
  };

  void part_anew(RimParting parting) {
    parting_ = std::move(parting);
    lights_.clear();
    pixels_ = {};
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

  bool is_lit(RimSector& sector) const {
    sector.solve_light();
    return (dark_ ? sector.contrast() : -sector.contrast()) >= min_contrast_;
  }

  double sector_arc() const {
    return 2 * std::numbers::pi * fit_.radius / static_cast<double>(parting_.count());
  }

  /// Where most of the bright side is as bright as pixels can be, its level is not known, and the edge seems
  /// to lie farther on the dark side than it does.
  bool is_blinded(size_t sector) const { return pixels_.blinded[sector] > 0.3f; }

  Step step(bool judge) {
    Step s;
    light_sectors(s);
    // One sector by itself: how far its edge lies outwards, and how well the edge explains it.
    std::vector<double> scatter;
    for (size_t i = 0; i < s.sectors.size(); ++i)
      if (s.lit[i]) scatter.push_back(s.sectors[i].squares / s.sectors[i].count);
    if (scatter.size() < 4 || !weigh_sectors(s, std::max(median(scatter), noise_ * noise_), judge)) return s;
    RimMatrix held = s.information;
    held.diagonal() *= 1 + 1e-9;
    held(5, 5) += 4 * s.variance;  // the blur is about what it was
    hold_round(s, held);
    held += s.round;
    const Eigen::LDLT<RimMatrix> solver(held);
    s.change = solver.solve(s.change);
    s.good = s.change.allFinite() && solver.isPositive();
    return s;
  }

  /// The light first: level inside and outside of each sector.
  void light_sectors(Step& s) {
    const size_t count = parting_.count();
    if (!pixels_.serve(fit_)) pixels_ = pixels_near(picture_, fit_, count);
    rim_sums(pixels_, fit_, lights_, sums_);
    s.sectors.resize(count), s.lit.assign(count, false);
    for (size_t i = 0; i < count; ++i) {
      RimSector& sector = s.sectors[i];
      const RimSums& sum = sums_[i];
      sector.level = pixels_.level[i], sector.count = sum.count;
      sector.light << sum.light[0], sum.light[1], sum.light[1], sum.light[2];
      sector.light_right << sum.light_grey[0], sum.light_grey[1];
      s.lit[i] = sector.count >= 8 && std::abs(sector.light.determinant()) > 1e-3 && is_lit(sector);
    }
    s.light = share_light(s.sectors, s.lit, parting_.middles, noise_, sector_arc());
    lights_.clear();
    for (size_t i = 0; i < count; ++i) {
      RimSector& sector = s.sectors[i];
      s.lit[i] = s.lit[i] && is_lit(sector);
      if (s.lit[i]) sector.weigh(sums_[i]);
      lights_.push_back(is_blinded(i) ? RimLight{-1e6, -1e6} : RimLight{sector.inside, sector.outside});
    }
  }

  /// Adds up what the sectors want, each by how far it is to be believed; `usual` is the variance of a pixel.
  /// False where they are too few.
  bool weigh_sectors(Step& s, double usual, bool judge) {
    const double off_centre = usual_offset(s);
    const std::vector<double> clear =
        judge ? contamination_weight(s, usual) : std::vector<double>(parting_.count(), 1);
    const RimParting before = parting_;
    double squares = 0, count = 0;
    LightUnknowns light(s.light);
    for (size_t i = 0; i < s.sectors.size(); ++i) {
      const RimSector& sector = s.sectors[i];
      const double contrast = std::abs(sector.contrast()), variance = sector.squares / sector.count;
      parting_.seen[i] = s.lit[i];
      if (judge && s.lit[i])
        parting_.seen[i] = std::abs(sector.offset) < 1.2 &&
                           std::sqrt(variance) < std::max(3.5 * std::sqrt(usual), 0.12 * contrast);
      if (!parting_.seen[i]) continue;
      // What lies near a rim pulls a sector aside, or makes it fit badly: it then counts little (Tukey).
      double most = std::max(1.0, 4.5 * off_centre);
      if (judge)
        most = std::max({6 * std::sqrt(usual / std::max(sector.normal(2, 2), 1e-9)), 4.5 * off_centre, 0.04});
      const double w = tukey_weight(sector.offset / most);
      if (w == 0) {  // an edge, but not this rim's
        parting_.seen[i] = !judge;
        continue;
      }
      double clean = clear[i] * std::min(1.0, usual / std::max(variance, 1e-9));
      if (before.beside_unseen(i)) clean *= worth_beside_unseen;
      squares += w * clean * sector.squares, count += w * clean * (sector.count - 2);
      if (is_blinded(i)) clean *= worth_of_blinded;
      s.information += w * clean * sector.normal, s.change += w * clean * sector.right;
      s.contributions.push_back(w * clean * sector.right);
      const RimVector outwards = w * clean * sector.normal.col(2) / sector.contrast();
      s.moved += outwards * outwards.transpose();
      light.add(sector, parting_.middles[i], w * clean);
    }
    if (count < 24) return false;
    s.variance = squares / (count - 6);
    light.settle(s.information, s.change, s.contributions);
    return true;
  }

  /// A rim is a circle until an oval explains it so much better as its two further unknowns cost (evidence of
  /// models: MacKay, Bayesian interpolation, Neural Computation 4, 1992; before looking, as oval as a tilt of
  /// 25 degrees makes it). How oval it is then counts as far as that is beyond noise (empirical Bayes; the
  /// variance beyond noise after Paule, Mandel, Consensus values and weighting factors, J. Res. NBS 87,
  /// 1982). Where a third of the rim is hidden, an oval for nothing explains most of what a shift would.
  void hold_round(Step& s, const RimMatrix& held) const {
    const RimMatrix inverse = held.inverse(), by_noise = inverse * s.variance,
                    by_sectors = covariance_of_cells(s.contributions, inverse);
    const auto of_oval = [](const RimMatrix& m) -> Eigen::Matrix2d { return m.block<2, 2>(3, 3); };
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
    const double weight =
        beyond * SharedLight::firmly > s.variance ? s.variance / beyond : SharedLight::firmly;
    s.round(3, 3) = s.round(4, 4) = weight;
    s.change[3] -= weight * fit_.a, s.change[4] -= weight * fit_.b;
  }

  /// How far each sector's band is free of other things, 0 to 1: what reaches into it - the edge of a plate,
  /// a thing seen through a hole - shows in the means of its far rings, long before it shows in the scatter
  /// of single pixels, and pulls at the edge. `variance` is that of a pixel.
  std::vector<double> contamination_weight(const Step& s, double variance) const {
    constexpr double certain = 7,
                     beyond_usual = 4;  // squares of means over their variance, of the worst ring
    std::vector<double> worst(s.sectors.size(), 0), of_all;
    for (size_t i = 0; i < s.sectors.size(); ++i) {
      if (!s.lit[i]) continue;
      const RimSector& sector = s.sectors[i];
      const double in = sector.inside - sector.level, out = sector.outside - sector.level;
      for (const RimSums::Ring& ring : sums_[i].rings) {
        if (ring.count < 4) continue;
        const double left = ring.grey - in * (ring.count - ring.phi) - out * ring.phi;
        worst[i] = std::max(worst[i], left * left / (ring.count * variance));
      }
      of_all.push_back(worst[i]);
    }
    const double limit = std::max(certain, beyond_usual * median(of_all));
    std::vector<double> clear(s.sectors.size(), 1);
    for (size_t i = 0; i < s.sectors.size(); ++i)
      if (worst[i] > limit) clear[i] = std::pow(limit / worst[i], 2);
    return clear;
  }

  /// Median size of the sectors' offsets.
  static double usual_offset(const Step& s) {
    std::vector<double> offsets;
    for (size_t i = 0; i < s.sectors.size(); ++i)
      if (s.lit[i]) offsets.push_back(s.sectors[i].offset);
    return median_size(offsets);
  }

  void apply(const RimVector& full) {
    RimVector c = full;
    const double size = c.head<5>().norm();
    if (size > 2) c *= 2 / size;
    fit_.centre += Point2{c[0], c[1]};
    fit_.radius += c[2], fit_.a += c[3], fit_.b += c[4];
    const double most = 0.45 * fit_.radius, oval = std::hypot(fit_.a, fit_.b);
    if (oval > most) fit_.a *= most / oval, fit_.b *= most / oval;
    fit_.blur = std::clamp(fit_.blur * std::exp(std::clamp(c[5], -0.4, 0.4)), 0.45, 4.0);
  }

  void summarise(const Step& s) {
    RimMatrix held = s.information;
    held.diagonal() *= 1 + 1e-9;
    const RimMatrix inverse = (held + s.round).inverse();
    // As the pixels' noise and uneven brightness have it, or as whole sectors disagree where that is more:
    // what hides a rim, shines into it or lies beside it pulls at all pixels of a sector.
    // A ramp on one side moves the blurred step that is fitted to the band by so many times the ramp over the
    // contrast (least squares of both, blur 0.6 to 2.2).
    const double moves = fit_.blur * (1.3 + 2 * fit_.blur),
                 shared = std::max(1.0, uneven_stretch / sector_arc());
    const RimMatrix by_pixels =
        inverse * s.variance + inverse * s.moved * inverse * (s.light.uneven * moves * moves * shared);
    const double free = (inverse * s.information).trace();
    const RimMatrix by_sectors =
        covariance_of_cells(s.contributions, inverse, free) + inverse * s.round * inverse * s.variance;
    const auto sigma = [&](int i) { return std::sqrt(std::max({by_pixels(i, i), by_sectors(i, i), 0.0})); };
    fit_.sigma_x = sigma(0), fit_.sigma_y = sigma(1), fit_.sigma_radius = sigma(2);
    fit_.noise = std::sqrt(s.variance);
    fit_.seen = parting_.seen;
    std::vector<double> contrasts;
    std::vector<double> offsets;
    double noise = 0;
    for (size_t i = 0; i < s.sectors.size(); ++i) {
      if (!parting_.seen[i]) continue;
      contrasts.push_back(std::abs(s.sectors[i].contrast()));
      offsets.push_back(s.sectors[i].offset);
      noise += s.variance / std::max(s.sectors[i].normal(2, 2), 1e-9);
    }
    const auto count = static_cast<double>(contrasts.size());
    fit_.rim = count / static_cast<double>(parting_.count());
    if (contrasts.empty()) return;
    // By the median: a few hidden sectors show in the visible share.
    const double usual = 1.4826 * median_size(offsets);
    fit_.scatter = std::sqrt(std::max(0.0, usual * usual - noise / count));  // beyond what noise makes of it
    fit_.contrast = median(contrasts);
    constexpr double slack = 1.15;  // of the noise' own uncertainty
    fit_.misfit =
        std::sqrt(std::max(0.0, s.variance - slack * noise_ * noise_)) / std::max(fit_.contrast, 1.0);
  }

  const Image<uint8_t>& picture_;
  RimFit fit_;
  bool dark_;
  double min_contrast_, noise_;
  RimParting parting_;
  RimPixels pixels_;
  std::vector<RimSums> sums_;
  std::vector<RimLight> lights_;  ///< of the sectors, from round to round
  Point2 first_centre_ = fit_.centre;
};

}  // namespace

std::optional<RimFit> fit_rim(const PreparedPicture& prepared, const FourierRim& wave,
                              const RimSearch& search) {
  RimFit start;
  start.centre = wave.centre, start.radius = wave.radius;
  start.a = wave.even.x, start.b = wave.even.y;
  start.blur = 0.9;
  return GreyRim(prepared.level(0), start, search.dark, search.min_contrast, prepared.noise_sigma(0)).run();
}

}  // namespace heron
