#pragma once
#include <Eigen/Core>
#include <vector>

#include "heron/locate/pattern.hpp"

namespace heron {

/// What a least-squares step on edges needs to know.
struct EdgeFitSearch {
  int level = 0;
  int reach = 3;  ///< pixels of that level to look either side of an edge, 1 to 6
  double least_contrast = 8;
  bool free_angle = true, free_scale = false;
  int rounds = 3;
};

/// A pose fitted to the edges met.
struct EdgeFit {
  bool fitted = false;
  Similarity2 pose;  ///< picture_from_target, level 0
  double score = 0;  ///< 0 to 100, by the distances on that level
  double contrast = 0;
  PoseSigma sigma;
};

/// Moves `start` so that the taught edges lie on the edges met: point-to-line distances along the turned
/// normals, robust by Tukey's weights, Gauss-Newton.
EdgeFit fit_edges(const Image<uint8_t>& picture, const std::vector<TaughtEdge>& edges,
                  const Similarity2& start, const EdgeFitSearch& search);

/// How each edge is met at a pose, without moving it.
std::vector<EdgeMatch> match_edges(const Image<uint8_t>& picture, const std::vector<TaughtEdge>& edges,
                                   const Similarity2& pose, int reach, double least_contrast);

}  // namespace heron
