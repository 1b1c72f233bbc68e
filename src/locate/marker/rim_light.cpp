#include "rim_light.hpp"

#include <Eigen/Cholesky>
#include <array>
#include <cmath>

#include "geometry/robust_fit.hpp"
#include "heron/base/median.hpp"

namespace heron {
namespace {

/// The median level of the sectors inside (side 0) or outside (1); 0 of none.
double usual_level(const std::vector<RimSector>& sectors, const std::vector<bool>& fit, int side) {
  std::vector<double> levels;
  for (size_t i = 0; i < sectors.size(); ++i)
    if (fit[i]) levels.push_back(sectors[i].level_on(side));
  return median(levels);
}

/// How steep the brightness beside the rim is where it is uneven, squared, in grey levels a pixel: what
/// neighbouring ones of `sectors` differ by, beyond the plane of light and beyond noise.
double uneven_ramp(const std::vector<double>& levels, const std::vector<size_t>& which, size_t sectors,
                   double variance_of_level, double arc) {
  std::vector<double> steps;
  for (size_t k = 0; k < which.size(); ++k) {
    const size_t next = (k + 1) % which.size();
    if (which[next] == (which[k] + 1) % sectors) steps.push_back(levels[next] - levels[k]);
  }
  if (steps.size() < 3) return 0;
  const double step = 1.4826 * median_size(steps);
  return std::max(0.0, step * step - 2 * variance_of_level) / (arc * arc);
}

/// The plane of light through the sectors' levels: even until a slope is evident - before looking, of a
/// tenth of the light along the radius -, then as steep as it is beyond noise (empirical Bayes). A slope
/// for nothing would cost what it could explain as a shift.
void slope_light(const std::vector<FitRow<3>>& rows, double variance_of_level, double noise,
                 Eigen::Vector3d& light, Eigen::Ref<Eigen::Vector2d> hold) {
  const auto plane = fit_robustly<3>(rows, light, {.least = noise, .rounds = 3, .sigmas_known = false});
  if (!plane.determined) return;
  const double by_noise = std::max(1e-12, 2 * variance_of_level / static_cast<double>(rows.size())),
               least = by_noise * evident_from(std::pow(0.1 * light[0], 2), by_noise),
               beyond = 0.5 * (plane.unknowns.tail<2>().squaredNorm() - least);
  if (!(beyond > 0)) return;
  light = plane.unknowns;
  light.tail<2>() *= beyond / (beyond + by_noise);
  hold.setConstant(noise * noise / beyond);
}

/// What each number of the shared light is to a sector's own inside and outside.
Eigen::Matrix<double, 2, 6> shares_of(Point2 u) {
  Eigen::Matrix<double, 2, 6> shares = Eigen::Matrix<double, 2, 6>::Zero();
  shares.row(0).head<3>() << 1, u.x, u.y;
  shares.row(1).tail<3>() << 1, u.x, u.y;
  return shares;
}

}  // namespace

double evident_from(double likely, double own) { return 2 * std::log1p(likely / own); }

SharedLight share_light(std::vector<RimSector>& sectors, const std::vector<bool>& fit,
                        const std::vector<Point2>& middles, double noise, double arc) {
  constexpr size_t enough_for_a_plane = 8;
  constexpr double dark = 0.25;  // beside the other side: there the same light slopes less than is told
  SharedLight shared;
  const std::array<double, 2> usual{usual_level(sectors, fit, 0), usual_level(sectors, fit, 1)};
  for (const int side : {0, 1}) {
    std::vector<FitRow<3>> rows;
    std::vector<double> levels;
    std::vector<size_t> which;
    double estimated = 0;
    for (size_t i = 0; i < sectors.size(); ++i) {
      if (!fit[i]) continue;
      const Point2 u = middles[i];
      rows.push_back({{1, u.x, u.y}, sectors[i].level_on(side)});
      which.push_back(i);
      estimated += noise * noise * sectors[i].light.inverse()(side, side);
    }
    if (rows.size() < 4) return shared;
    estimated /= static_cast<double>(rows.size());
    const auto at = static_cast<size_t>(side);
    Eigen::Vector3d light(usual[at], 0, 0);
    if (usual[at] > dark * usual[1 - at] && rows.size() >= enough_for_a_plane)
      slope_light(rows, estimated, noise, light, shared.hold.segment<2>(3 * side + 1));
    for (const FitRow<3>& row : rows) levels.push_back(row.value - row.terms.dot(light));
    shared.uneven += uneven_ramp(levels, which, sectors.size(), estimated, arc);
    const double apart = 1.4826 * median_size(levels);
    const double variance = std::max(apart * apart - estimated, 0.01 * noise * noise);
    const double weight = noise * noise / variance;
    shared.planes.segment<3>(3 * side) = light, shared.keep[side] = weight;
    for (size_t i = 0; i < sectors.size(); ++i) {
      const double there = (shares_of(middles[i]) * shared.planes)[side];
      sectors[i].light(side, side) += weight;
      sectors[i].light_right[side] += weight * (there - sectors[i].level);
    }
  }
  return shared;
}

void LightUnknowns::add(const RimSector& sector, Point2 middle, double weight) {
  const Eigen::Matrix2d keep = light_.keep.asDiagonal(), held = sector.light.inverse() * keep;
  const Eigen::Matrix<double, 2, 6> shares = shares_of(middle);
  with_ellipse_ += weight * sector.mixed * held * shares;
  own_ += weight * shares.transpose() * (keep - keep * held) * shares;
  contributions_.push_back(weight * shares.transpose() * keep *
                           (Eigen::Vector2d(sector.inside, sector.outside) - shares * light_.planes));
}

void LightUnknowns::settle(RimMatrix& information, RimVector& change, std::vector<RimVector>& contributions) {
  for (int i = 0; i < 6; ++i) own_(i, i) += 1e-9 + 1e-9 * own_(i, i) + light_.hold[i];
  const RimMatrix instead = own_.ldlt().solve(with_ellipse_.transpose()).transpose();
  information -= instead * with_ellipse_.transpose();
  for (size_t i = 0; i < contributions.size(); ++i)
    contributions[i] -= instead * contributions_[i], change -= instead * contributions_[i];
  change += instead * light_.hold.cwiseProduct(light_.planes);
}

}  // namespace heron
