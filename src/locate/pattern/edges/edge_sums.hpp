#pragma once
#include <Eigen/Core>
#include <array>

#include "locate/edge_samples/sample_edges.hpp"

namespace heron {

/// Edges that were met count when their gradient lies within 45 degrees of the turned normal.
inline constexpr float min_cosine = 0.707f;

/// The unknowns of a fit to edges: shift along x and y, turn, log scale, in the taught frame and in pixels of
/// the level.
inline constexpr size_t edge_unknowns = 4;
using EdgeStep = std::array<double, edge_unknowns>;

/// Whether an edge was met and its gradient points the right way.
inline bool aligned(const EdgeSamples& met, size_t edge) {
  return met.contrast[edge] > 0 && met.cosine[edge] > min_cosine;
}

/// How an edge's distance shrinks with each unknown, at a scale of the pose.
inline std::array<double, edge_unknowns> edge_row(const EdgeColumns& edges, double scale, size_t edge) {
  const Point2 arm = Point2{edges.x[edge], edges.y[edge]} * scale,
               normal{edges.normal_x[edge], edges.normal_y[edge]};
  return {normal.x, normal.y, cross(arm, normal), dot(arm, normal)};
}

/// All that a step of least squares reads of the edges met, with Tukey's weights that end at `end`.
struct EdgeSums {
  std::array<double, edge_unknowns*(edge_unknowns + 1) / 2> products{};  ///< rows of the upper triangle
  EdgeStep contribution{};
  double weights = 0,
         psi_derivative_sum = 0;  ///< sums of the weights, and of how weighted distances grow with distances
  double aligned = 0;             ///< edges met that point the right way
};
EdgeSums edge_sums(const EdgeColumns& edges, const EdgeSamples& met, double scale, double end);
EdgeSums edge_sums_plain(const EdgeColumns& edges, const EdgeSamples& met, double scale, double end);

/// Of each edge met, where it lies after a step, and how much of it is seen; 0 where it is not met. Columns
/// filled up to whole vectors.
struct EdgesMatched {
  std::vector<float> offsets, weights;
};

/// Moves the distances by a step, by `edge_row`, and returns the sum of the match weights. Nearness:
/// full within half a pixel, nothing at 2.5. Direction: full within 22 degrees, nothing at 45.
double match_edges(const EdgeColumns& edges, const EdgeSamples& met, double scale, const EdgeStep& step,
                   EdgesMatched& matched);
double match_edges_plain(const EdgeColumns& edges, const EdgeSamples& met, double scale, const EdgeStep& step,
                         EdgesMatched& matched);

/// What the distances after a step pull at the unknowns, added up in each cell of edges, with the weights
/// that those before it had.
using EdgePulls = std::vector<Eigen::Vector4f>;
void edge_contributions(const EdgeColumns& edges, const EdgeSamples& met, const EdgesMatched& matched,
                        double scale, double end, EdgePulls& contributions);
void edge_contributions_plain(const EdgeColumns& edges, const EdgeSamples& met, const EdgesMatched& matched,
                              double scale, double end, EdgePulls& contributions);

}  // namespace heron
