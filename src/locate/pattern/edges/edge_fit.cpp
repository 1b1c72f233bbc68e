#include "edge_fit.hpp"

#include <Eigen/LU>

#include "contour_segments.hpp"
#include "edge_sums.hpp"
#include "heron/image/pyramid.hpp"
#include "locate/common/cells.hpp"
#include "locate/common/nth_smallest.hpp"

namespace heron {
namespace {

EdgeScan scan_at(const Similarity2& pose, const EdgeFitSearch& search, int reach) {
  return {to_level(pose.position(), search.level), pose.angle, pose.scale * std::ldexp(1.0, -search.level),
          reach, search.min_contrast};
}

struct EdgeScratch {
  EdgeSamples met, falling;
  EdgesMatched matched;
  std::vector<float> values;
  EdgePulls contributions;
};

/// Fills `s.met`.
void meet(const Image<uint8_t>& picture, const EdgeColumns& edges, EdgeScan scan, GradientSign rise,
          EdgeScratch& s) {
  scan.falling = rise == GradientSign::down;
  sample_edges(picture, edges, scan, s.met);
  if (rise != GradientSign::either) return;
  scan.falling = true;
  sample_edges(picture, edges, scan, s.falling);
  keep_better_sign(edges, s.falling, scan.reach, s.met);
}

/// A column of `s.met`, of the edges that point the right way; of some hundreds, which tell a median as well
/// as all do.
void take_some(const std::vector<float>& column, const EdgeColumns& edges, EdgeScratch& s) {
  s.values.clear();
  const size_t step = std::max<size_t>(1, edges.count / 200);
  for (size_t i = 0; i < edges.count; i += step)
    if (aligned(s.met, i)) s.values.push_back(column[i]);
}

/// Where Tukey's weight ends: on level 0 from the scatter of the offsets about their median, never below half
/// a pixel; above, where a pose is still off, at a pixel and a half.
double tukey_end(const EdgeColumns& edges, EdgeScratch& s, int level) {
  if (level > 0) return 1.5;
  take_some(s.met.offset, edges, s);
  const float middle = median_of_some(s.values);
  for (float& v : s.values) v = std::abs(v - middle);
  return std::max(0.5, 4.685 * 1.4826 * static_cast<double>(median_of_some(s.values)));
}

/// What `s.met` holds after a step, whose distances follow from it: looking again would tell the same.
SeenEdges seen_after(const EdgeStep& step, double scale, const EdgeColumns& edges, EdgeScratch& s) {
  SeenEdges seen;
  seen.score = 100 * match_edges(edges, s.met, scale, step, s.matched) / static_cast<double>(edges.count);
  const auto count = static_cast<std::ptrdiff_t>(edges.count);
  seen.weights.assign(s.matched.weights.begin(), s.matched.weights.begin() + count);
  seen.offsets.assign(s.matched.offsets.begin(), s.matched.offsets.begin() + count);
  take_some(s.met.contrast, edges, s);
  seen.contrast = static_cast<double>(median_of_some(s.values));
  return seen;
}

/// What noise alone makes of an edge's place, square pixels: the least, that of a step behind 0.8 pixels of
/// blur whose pixels all are used.
double variance_by_noise(double noise_sigma, double contrast) {
  const double sigma = 1.35 * noise_sigma / std::max(1.0, contrast);
  return sigma * sigma;
}

/// Covariance of the unknowns from what the distances left over (`s.matched`, after the step) add up to in
/// each cell, whose edges share pixels and background. Of few cells, whose sums may come out small by chance,
/// no less than noise makes. `inflation` is that of the weights' fit.
Eigen::Matrix4d covariance_of(EdgeScratch& s, const Eigen::Matrix4d& inverse, double inflation,
                              double by_noise) {
  const Eigen::Matrix4f influence = (inverse * inflation).cast<float>();
  for (Eigen::Vector4f& cell : s.contributions) cell = influence * cell;
  const Eigen::Vector4d wider = student_growth(freedom_of_cells(s.contributions)).sqrt();
  Eigen::Matrix4d covariance =
      wider.asDiagonal() * covariance_of_influences(s.contributions) * wider.asDiagonal();
  covariance.diagonal() = covariance.diagonal().cwiseMax(by_noise * inverse.diagonal());
  return covariance;
}

EdgeScratch& scratch() {
  static thread_local EdgeScratch s;
  return s;
}

}  // namespace

EdgeFit fit_edges(const Image<uint8_t>& picture, const EdgeColumns& edges, const Similarity2& start,
                  const EdgeFitSearch& search, SeenEdges* seen) {
  EdgeScratch& s = scratch();
  EdgeFit fit;
  fit.pose = start;
  const double to = std::ldexp(1.0, -search.level), count = static_cast<double>(edges.count);
  const std::array<bool, edge_unknowns> free{true, true, search.free_angle, search.free_scale};

  for (int round = 0; round < search.rounds; ++round) {
    const EdgeScan scan = scan_at(fit.pose, search, round == 0 ? search.reach : std::min(search.reach, 2));
    meet(picture, edges, scan, search.rise, s);
    const double end = tukey_end(edges, s, search.level);
    const EdgeSums sums = edge_sums(edges, s.met, scan.scale, end);
    if (round == 0 && 100 * sums.aligned < search.min_met * count) return fit;
    if (sums.aligned < 8 || sums.aligned * 8 < count) return fit;
    Eigen::Matrix4d information;
    Eigen::Vector4d contribution = Eigen::Map<const Eigen::Vector4d>(sums.contribution.data());
    for (Eigen::Index i = 0, k = 0; i < 4; ++i)
      for (Eigen::Index j = i; j < 4; ++j, ++k)
        information(i, j) = information(j, i) = sums.products[static_cast<size_t>(k)];
    for (Eigen::Index i = 0; i < 4; ++i)  // what is held does not move
      if (!free[static_cast<size_t>(i)])
        information.row(i).setZero(), information.col(i).setZero(), information(i, i) = 1,
                                                                                   contribution[i] = 0;
    Eigen::Matrix4d inverse = information.inverse();
    const auto norm_of = [](const Eigen::Matrix4d& m) { return m.cwiseAbs().colwise().sum().maxCoeff(); };
    if (!(norm_of(information) * norm_of(inverse) < 1e9)) return fit;
    EdgeStep step{};
    Eigen::Map<Eigen::Vector4d>(step.data()) = inverse * contribution;
    const Point2 shift = rotated(Point2{step[0], step[1]}, scan.angle) / to;
    fit.pose.x += shift.x, fit.pose.y += shift.y;
    fit.pose.angle = (fit.pose.angle + radians(step[2])).wrapped();
    fit.pose.scale *= std::exp(std::clamp(step[3], -0.2, 0.2));

    const auto score = [&] { return 100 * match_edges(edges, s.met, scan.scale, step, s.matched) / count; };
    if (round + 1 < search.rounds) {
      if (round == 0 && search.min_begun > 0 && score() < search.min_begun) return fit;
      continue;
    }
    if (seen) *seen = seen_after(step, scan.scale, edges, s);
    fit.score = seen ? seen->score : score();
    if (search.level > 0 || !search.tells_sigma) continue;
    take_some(s.met.contrast, edges, s);
    for (int i = 0; i < 4; ++i)
      if (!free[static_cast<size_t>(i)]) inverse(i, i) = 0;
    const double by_noise =
        variance_by_noise(search.noise_sigma, static_cast<double>(median_of_some(s.values)));
    edge_contributions(edges, s.met, s.matched, scan.scale, end, s.contributions);
    const double inflation = variance_inflation(sums.weights, sums.psi_derivative_sum);
    const Eigen::Matrix4d covariance = covariance_of(s, inverse, inflation, by_noise);
    const double c = cos(scan.angle), sn = sin(scan.angle);
    fit.sigma = {sigma_along(covariance, {c, -sn}), sigma_along(covariance, {sn, c}),
                 radians(std::sqrt(covariance(2, 2))), std::sqrt(covariance(3, 3)) * fit.pose.scale};
  }

  fit.fitted = true;
  return fit;
}

SeenEdges see_edges(const Image<uint8_t>& picture, const EdgeColumns& edges, const Similarity2& pose,
                    double min_contrast, GradientSign rise, std::vector<float>* contrasts) {
  EdgeScratch& s = scratch();
  const EdgeScan scan = scan_at(pose, {.min_contrast = min_contrast}, 2);
  meet(picture, edges, scan, rise, s);
  if (contrasts)
    contrasts->assign(s.met.contrast.begin(), s.met.contrast.begin() + static_cast<ptrdiff_t>(edges.count));
  return seen_after({}, scan.scale, edges, s);
}

double share_outside(const Image<uint8_t>& picture, const EdgeColumns& edges, const Similarity2& pose) {
  const auto c = static_cast<float>(pose.scale * cos(pose.angle)),
             s = static_cast<float>(pose.scale * sin(pose.angle));
  const auto left = static_cast<float>(-0.5 - pose.x), top = static_cast<float>(-0.5 - pose.y),
             right = left + static_cast<float>(picture.width()),
             bottom = top + static_cast<float>(picture.height());
  int outside = 0;
  for (size_t i = 0; i < edges.count; ++i) {
    const float x = c * edges.x[i] - s * edges.y[i], y = s * edges.x[i] + c * edges.y[i];
    outside += static_cast<int>(x < left) | static_cast<int>(x > right) | static_cast<int>(y < top) |
               static_cast<int>(y > bottom);
  }
  return outside / static_cast<double>(edges.count);
}

}  // namespace heron
