#pragma once
#include <vector>

#include "heron/locate/pattern.hpp"
#include "locate/common/fit_sigma.hpp"
#include "locate/edge_samples/edge_columns.hpp"
#include "locate/edge_samples/sample_edges.hpp"

namespace heron {

/// Which change of brightness along an edge's normal counts; either: of each stretch of edges the one of
/// which more is seen.
enum class GradientSign { up, down, either };

/// What a least-squares step on edges needs to know.
struct EdgeFitSearch {
  int level = 0;
  int reach = 3;  ///< pixels of that level to look either side of an edge, 1 to 6
  double min_contrast = 8;
  GradientSign rise = GradientSign::up;
  bool free_angle = true, free_scale = false;
  int rounds = 3;
  double min_met = 0;       ///< per cent of the edges that the first round must meet; else the fit is dropped
  double min_begun = 0;     ///< score that the first of several rounds must reach; else the fit is dropped
  bool tells_sigma = true;  ///< its cost is as that of a round with few edges
  double noise_sigma = 0;   ///< of the picture and the taught one together, grey levels: the least sigmas
};

/// A pose fitted to the edges met.
struct EdgeFit {
  bool fitted = false;
  Similarity2 pose;  ///< picture_from_target, level 0
  double score = 0;  ///< 0 to 100, by the distances on that level
  FitSigma sigma;    ///< on level 0, if it was asked for
};

/// How much of the taught edge length is seen again at a pose.
struct SeenEdges {
  double score = 0, contrast = 0;
  std::vector<float> weights;  ///< of each edge, 0 to 1
  std::vector<float> offsets;  ///< of each edge, level pixels; 0 where it is not seen
};

/// Moves `start` so that the taught edges lie on the edges met: point-to-line distances along the turned
/// normals, robust by Tukey's weights, Gauss-Newton. Where it fitted, `seen` is filled as `see_edges` would,
/// as far as the last round looked.
EdgeFit fit_edges(const Image<uint8_t>& picture, const EdgeColumns& edges, const Similarity2& start,
                  const EdgeFitSearch& search, SeenEdges* seen = nullptr);

/// `contrasts`: of each edge, 0 where none is met.
SeenEdges see_edges(const Image<uint8_t>& picture, const EdgeColumns& edges, const Similarity2& pose,
                    double min_contrast, GradientSign rise, std::vector<float>* contrasts = nullptr);

/// Share of the taught edges that lie outside the picture at a pose.
double share_outside(const Image<uint8_t>& picture, const EdgeColumns& edges, const Similarity2& pose);

}  // namespace heron
