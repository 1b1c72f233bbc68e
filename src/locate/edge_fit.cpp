#include "edge_fit.hpp"

#include <Eigen/LU>

#include "edge_profile.hpp"
#include "heron/image/pyramid.hpp"

namespace heron {
namespace {

struct MetEdge {
  Eigen::Vector4d by_pose;  ///< of the distance, by x, y, angle (radians), log scale; pixels of the level
  double offset, cosine, contrast;
};

/// Nearness: full within half a pixel, nothing at 2.5. Direction: full within 22 degrees, nothing at 45.
double match_weight(double offset, double cosine) {
  const double near = std::clamp((2.5 - std::abs(offset)) / 2.0, 0.0, 1.0);
  const double aligned = std::clamp((cosine - 0.707) / (0.927 - 0.707), 0.0, 1.0);
  return near * aligned;
}

std::vector<MetEdge> meet_all(const Image<uint8_t>& picture, const std::vector<TaughtEdge>& edges,
                              const Similarity2& pose, int level, int reach, double least_contrast) {
  std::vector<MetEdge> met;
  met.reserve(edges.size());
  const double to = std::ldexp(1.0, -level), c = cos(pose.angle), s = sin(pose.angle);
  const Point2 origin = to_level(pose.position(), level);
  for (const TaughtEdge& e : edges) {
    const Point2 arm =
        Point2{c * e.place.x - s * e.place.y, s * e.place.x + c * e.place.y} * (pose.scale * to);
    const Point2 normal{c * e.normal.x - s * e.normal.y, s * e.normal.x + c * e.normal.y};
    const EdgeMet edge = meet_edge(picture, origin + arm, normal, reach, least_contrast);
    if (edge.met && edge.cosine > 0.707)
      met.push_back({{normal.x, normal.y, cross(arm, normal), dot(arm, normal)},
                     edge.offset,
                     edge.cosine,
                     edge.contrast});
  }
  return met;
}

double median_of(std::vector<double> values) {
  if (values.empty()) return 0;
  const auto middle = values.begin() + static_cast<std::ptrdiff_t>(values.size() / 2);
  std::nth_element(values.begin(), middle, values.end());
  return *middle;
}

/// Where Tukey's weight ends, from the scatter of the offsets about their median; never below half a pixel.
double tukey_end(const std::vector<MetEdge>& met) {
  std::vector<double> offsets;
  for (const MetEdge& e : met) offsets.push_back(e.offset);
  const double middle = median_of(offsets);
  for (double& o : offsets) o = std::abs(o - middle);
  return std::max(0.5, 4.685 * 1.4826 * median_of(offsets));
}

}  // namespace

EdgeFit fit_edges(const Image<uint8_t>& picture, const std::vector<TaughtEdge>& edges,
                  const Similarity2& start, const EdgeFitSearch& search) {
  EdgeFit fit;
  fit.pose = start;
  const double to = std::ldexp(1.0, -search.level);
  std::vector<int> free{0, 1};
  if (search.free_angle) free.push_back(2);
  if (search.free_scale) free.push_back(3);
  const auto unknowns = static_cast<Eigen::Index>(free.size());

  for (int round = 0; round < search.rounds; ++round) {
    const int reach = round == 0 ? search.reach : std::min(search.reach, 2);
    const std::vector<MetEdge> met =
        meet_all(picture, edges, fit.pose, search.level, reach, search.least_contrast);
    if (met.size() < 8 || met.size() * 8 < edges.size()) return fit;
    const double end = tukey_end(met);
    Eigen::Matrix4d information = Eigen::Matrix4d::Zero();
    Eigen::Vector4d pull = Eigen::Vector4d::Zero();
    double squares = 0, weights = 0;
    for (const MetEdge& e : met) {
      const double u = e.offset / end;
      if (std::abs(u) >= 1) continue;
      const double weight = (1 - u * u) * (1 - u * u);
      information += weight * e.by_pose * e.by_pose.transpose();
      pull += weight * e.offset * e.by_pose;
      squares += weight * e.offset * e.offset, weights += weight;
    }
    Eigen::MatrixXd a(unknowns, unknowns);
    Eigen::VectorXd b(unknowns);
    for (Eigen::Index i = 0; i < unknowns; ++i) {
      b[i] = pull[free[static_cast<size_t>(i)]];
      for (Eigen::Index j = 0; j < unknowns; ++j)
        a(i, j) = information(free[static_cast<size_t>(i)], free[static_cast<size_t>(j)]);
    }
    const Eigen::LDLT<Eigen::MatrixXd> solver(a);
    if (solver.info() != Eigen::Success || solver.rcond() < 1e-9) return fit;
    const Eigen::VectorXd step = solver.solve(b);
    Eigen::Vector4d all = Eigen::Vector4d::Zero();
    for (Eigen::Index i = 0; i < unknowns; ++i) all[free[static_cast<size_t>(i)]] = step[i];
    fit.pose.x += all[0] / to, fit.pose.y += all[1] / to;
    fit.pose.angle = (fit.pose.angle + radians(all[2])).wrapped();
    fit.pose.scale *= std::exp(std::clamp(all[3], -0.2, 0.2));

    // Neighbouring edges share pixels, so fewer are independent than are counted.
    constexpr double shared = 2.0;
    const double left = std::max(0.0, squares - b.dot(step));
    const double variance = shared * left / std::max(1.0, weights - static_cast<double>(unknowns));
    const Eigen::MatrixXd covariance = variance * solver.solve(Eigen::MatrixXd::Identity(unknowns, unknowns));
    fit.sigma = {std::sqrt(covariance(0, 0)) / to, std::sqrt(covariance(1, 1)) / to,
                 search.free_angle ? radians(std::sqrt(covariance(2, 2))) : degrees(180),
                 search.free_scale ? std::sqrt(covariance(unknowns - 1, unknowns - 1)) * fit.pose.scale : 0};
  }

  const std::vector<MetEdge> met = meet_all(picture, edges, fit.pose, search.level, 2, search.least_contrast);
  double sum = 0;
  std::vector<double> contrasts;
  for (const MetEdge& e : met) {
    sum += match_weight(e.offset, e.cosine);
    contrasts.push_back(e.contrast);
  }
  fit.score = 100 * sum / static_cast<double>(edges.size());
  fit.contrast = median_of(contrasts);
  fit.fitted = true;
  return fit;
}

std::vector<EdgeMatch> match_edges(const Image<uint8_t>& picture, const std::vector<TaughtEdge>& edges,
                                   const Similarity2& pose, int reach, double least_contrast) {
  std::vector<EdgeMatch> matches;
  matches.reserve(edges.size());
  for (const TaughtEdge& e : edges) {
    EdgeMatch match{pose * e.place, rotated(e.normal, pose.angle)};
    const EdgeMet edge = meet_edge(picture, match.place, match.normal, reach, least_contrast);
    if (edge.met) {
      match.distance = static_cast<float>(edge.offset);
      match.weight = static_cast<float>(match_weight(edge.offset, edge.cosine));
    }
    matches.push_back(match);
  }
  return matches;
}

}  // namespace heron
