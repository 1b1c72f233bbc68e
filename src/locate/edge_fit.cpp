#include "edge_fit.hpp"

#include <Eigen/Cholesky>

#include "cells.hpp"
#include "heron/image/pyramid.hpp"

namespace heron {
namespace {

constexpr float least_cosine = 0.707f;

/// Nearness: full within half a pixel, nothing at 2.5. Direction: full within 22 degrees, nothing at 45.
float match_weight(float offset, float cosine) {
  const float near = std::clamp((2.5f - std::abs(offset)) / 2.0f, 0.0f, 1.0f);
  const float aligned = std::clamp((cosine - least_cosine) / (0.927f - least_cosine), 0.0f, 1.0f);
  return near * aligned;
}

float median_of(std::vector<float>& values) {
  if (values.empty()) return 0;
  const auto middle = values.begin() + static_cast<std::ptrdiff_t>(values.size() / 2);
  std::nth_element(values.begin(), middle, values.end());
  return *middle;
}

EdgeScan scan_at(const Similarity2& pose, const EdgeFitSearch& search, int reach) {
  return {to_level(pose.position(), search.level),
          pose.angle,
          pose.scale * std::ldexp(1.0, -search.level),
          reach,
          search.least_contrast,
          search.rise};
}

/// The edges met that point the right way, with what a pose does to them.
struct Met {
  Eigen::Vector4d by_pose;  ///< of the distance, by x, y, angle (radians), log scale; pixels of the level
  double offset;
  float cosine;
  int cell;
};

struct EdgeScratch {
  EdgesMet met;
  std::vector<Met> aligned;
  std::vector<float> values;
  std::vector<Eigen::Vector4d> cells;
};

void align(const EdgeColumns& edges, const EdgeScan& scan, EdgeScratch& s) {
  const double c = cos(scan.angle), sn = sin(scan.angle);
  s.aligned.clear();
  for (size_t i = 0; i < edges.count; ++i) {
    if (!(s.met.contrast[i] > 0) || s.met.cosine[i] <= least_cosine) continue;
    const double px = edges.x[i], py = edges.y[i], mx = edges.normal_x[i], my = edges.normal_y[i];
    const Point2 arm = Point2{c * px - sn * py, sn * px + c * py} * scan.scale;
    const Point2 normal{c * mx - sn * my, sn * mx + c * my};
    s.aligned.push_back({{normal.x, normal.y, cross(arm, normal), dot(arm, normal)},
                         s.met.offset[i],
                         s.met.cosine[i],
                         edges.cell[i]});
  }
}

/// Where Tukey's weight ends: on level 0 from the scatter of the offsets about their median, never below half
/// a pixel; above, where a pose is still off, at a pixel and a half.
double tukey_end(EdgeScratch& s, int level) {
  if (level > 0) return 1.5;
  s.values.clear();
  for (const Met& m : s.aligned) s.values.push_back(static_cast<float>(m.offset));
  const float middle = median_of(s.values);
  for (float& v : s.values) v = std::abs(v - middle);
  return std::max(0.5, 4.685 * 1.4826 * static_cast<double>(median_of(s.values)));
}

/// Score of the edges met after a last step, whose distances follow from it: looking again would tell the
/// same.
double score_after(const Eigen::Vector4d& step, const EdgeColumns& edges, const EdgeScratch& s) {
  double sum = 0;
  for (const Met& e : s.aligned)
    sum += static_cast<double>(match_weight(static_cast<float>(e.offset - e.by_pose.dot(step)), e.cosine));
  return 100 * sum / static_cast<double>(edges.count);
}

/// Score of what `s.met` holds; `s.values` keeps the contrasts.
double judge(const EdgeColumns& edges, EdgeScratch& s) {
  double sum = 0;
  s.values.clear();
  for (size_t i = 0; i < edges.count; ++i) {
    if (!(s.met.contrast[i] > 0) || s.met.cosine[i] <= least_cosine) continue;
    sum += static_cast<double>(match_weight(s.met.offset[i], s.met.cosine[i]));
    s.values.push_back(s.met.contrast[i]);
  }
  return 100 * sum / static_cast<double>(edges.count);
}

/// Covariance of the pose from what the distances left over add up to in each cell, whose edges share pixels
/// and background.
Eigen::Matrix4d covariance_of(EdgeScratch& s, const EdgeColumns& edges, const Eigen::Vector4d& step,
                              const Eigen::Matrix4d& inverse, double end, double weights) {
  s.cells.assign(static_cast<size_t>(edges.cells), Eigen::Vector4d::Zero());
  double answers = 0;
  for (const Met& e : s.aligned) {
    const double u = e.offset / end;
    if (std::abs(u) >= 1) continue;
    const double root = 1 - u * u;
    answers += root * (1 - 5 * u * u);
    s.cells[static_cast<size_t>(e.cell)] += root * root * (e.offset - e.by_pose.dot(step)) * e.by_pose;
  }
  return covariance_of_cells(s.cells, Eigen::Matrix4d(inverse * growth_of(weights, answers)));
}

EdgeScratch& scratch() {
  static thread_local EdgeScratch s;
  return s;
}

}  // namespace

EdgeFit fit_edges(const Image<uint8_t>& picture, const EdgeColumns& edges, const Similarity2& start,
                  const EdgeFitSearch& search) {
  EdgeScratch& s = scratch();
  EdgeFit fit;
  fit.pose = start;
  const double to = std::ldexp(1.0, -search.level);
  const std::array<bool, 4> free{true, true, search.free_angle, search.free_scale};

  for (int round = 0; round < search.rounds; ++round) {
    const EdgeScan scan = scan_at(fit.pose, search, round == 0 ? search.reach : std::min(search.reach, 2));
    meet_edges(picture, edges, scan, s.met);
    align(edges, scan, s);
    if (round == 0 &&
        100.0 * static_cast<double>(s.aligned.size()) < search.least_met * static_cast<double>(edges.count))
      return fit;
    if (s.aligned.size() < 8 || s.aligned.size() * 8 < edges.count) return fit;
    const double end = tukey_end(s, search.level);
    Eigen::Matrix4d information = Eigen::Matrix4d::Zero();
    Eigen::Vector4d pull = Eigen::Vector4d::Zero();
    double weights = 0;
    for (const Met& e : s.aligned) {
      const double u = e.offset / end;
      if (std::abs(u) >= 1) continue;
      const double weight = (1 - u * u) * (1 - u * u);
      information += weight * e.by_pose * e.by_pose.transpose();
      pull += weight * e.offset * e.by_pose;
      weights += weight;
    }
    for (int i = 0; i < 4; ++i)  // what is held does not move
      if (!free[static_cast<size_t>(i)])
        information.row(i).setZero(), information.col(i).setZero(), information(i, i) = 1, pull[i] = 0;
    const Eigen::LDLT<Eigen::Matrix4d> solver(information);
    if (solver.info() != Eigen::Success || solver.rcond() < 1e-9) return fit;
    const Eigen::Vector4d step = solver.solve(pull);
    fit.pose.x += step[0] / to, fit.pose.y += step[1] / to;
    fit.pose.angle = (fit.pose.angle + radians(step[2])).wrapped();
    fit.pose.scale *= std::exp(std::clamp(step[3], -0.2, 0.2));

    if (round + 1 < search.rounds) continue;
    fit.score = score_after(step, edges, s);
    if (search.level > 0) continue;
    Eigen::Matrix4d inverse = solver.solve(Eigen::Matrix4d::Identity());
    for (int i = 0; i < 4; ++i)
      if (!free[static_cast<size_t>(i)]) inverse(i, i) = 0;
    const Eigen::Matrix4d covariance = covariance_of(s, edges, step, inverse, end, weights);
    fit.sigma = {std::sqrt(covariance(0, 0)), std::sqrt(covariance(1, 1)),
                 radians(std::sqrt(covariance(2, 2))), std::sqrt(covariance(3, 3)) * fit.pose.scale};
  }

  fit.fitted = true;
  return fit;
}

SeenEdges see_edges(const Image<uint8_t>& picture, const EdgeColumns& edges, const Similarity2& pose,
                    double least_contrast, Rise rise) {
  EdgeScratch& s = scratch();
  const EdgeFitSearch search{.least_contrast = least_contrast, .rise = rise};
  meet_edges(picture, edges, scan_at(pose, search, 2), s.met);
  SeenEdges seen;
  seen.score = judge(edges, s), seen.contrast = static_cast<double>(median_of(s.values));
  seen.weights.assign(edges.count + 1, 0.0f), seen.offsets.assign(edges.count, 0.0f);
  for (size_t i = 0; i < edges.count; ++i) {
    if (!(s.met.contrast[i] > 0)) continue;
    seen.weights[i + 1] = match_weight(s.met.offset[i], s.met.cosine[i]);
    seen.offsets[i] = s.met.offset[i];
  }
  return seen;
}

double share_outside(const Image<uint8_t>& picture, const EdgeColumns& edges, const Similarity2& pose) {
  const auto c = static_cast<float>(pose.scale * cos(pose.angle)),
             s = static_cast<float>(pose.scale * sin(pose.angle));
  const auto left = static_cast<float>(-0.5 - pose.x), top = static_cast<float>(-0.5 - pose.y),
             right = left + static_cast<float>(picture.width()),
             bottom = top + static_cast<float>(picture.height());
  size_t outside = 0;
  for (size_t i = 0; i < edges.count; ++i) {
    const float x = c * edges.x[i] - s * edges.y[i], y = s * edges.x[i] + c * edges.y[i];
    outside += !(x >= left && x <= right && y >= top && y <= bottom);
  }
  return static_cast<double>(outside) / static_cast<double>(edges.count);
}

}  // namespace heron
