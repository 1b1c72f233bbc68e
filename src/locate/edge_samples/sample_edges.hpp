#pragma once
#include <vector>

#include "edge_columns.hpp"
#include "heron/base/point.hpp"
#include "heron/image/image.hpp"

namespace heron {

/// Where taught edges are looked for on one level: its own pixels.
struct EdgeScan {
  Point2 origin;     ///< of the part
  Angle angle;       ///< of the part
  double scale = 1;  ///< pixels of this level per pixel of the taught picture
  int reach = 3;     ///< pixels looked either side of an edge, 1 to 6
  double min_contrast = 8;
  bool falling = false;  ///< brightness falls along the normals; else it rises
};

/// What was met at each edge, as columns; a contrast of 0 means nothing.
struct EdgeSamples {
  std::vector<float> offset;    ///< along the turned normal, pixels of the level
  std::vector<float> contrast;  ///< grey levels over two pixels
  std::vector<float> cosine;    ///< of the angle between the gradient there and the normal
};

/// Looks for every edge as `meet_edge` does, many at a time. `met` keeps its memory from call to call.
/// Cost: some 20 ns an edge.
void sample_edges(const Image<uint8_t>& picture, const EdgeColumns& edges, const EdgeScan& scan,
                  EdgeSamples& met);

/// The same one edge after the other, in double; what `sample_edges` is compared with.
void sample_edges_plain(const Image<uint8_t>& picture, const EdgeColumns& edges, const EdgeScan& scan,
                        EdgeSamples& met);

}  // namespace heron
