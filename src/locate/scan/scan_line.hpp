#pragma once
#include "scan.hpp"

namespace heron {

/// Where one strip of a band meets an edge.
struct StripEdge {
  double across = 0, at = 0, sigma = 0;  ///< pixels
  bool on_line = true;                   ///< false: it lies off the line that the others make
};

/// An edge with the line that strips of its band meet.
struct LineEdge {
  ScanEdge edge;
  double slope = 0;  ///< pixels along the scan a pixel across
  double slope_sigma = 0;
  double shared = 0;  ///< covariance of `edge.at` and `slope`
  double seen = 1;    ///< share of the strips that lie on the line
  std::vector<StripEdge> met = {};
};

/// The robust line through where strips of the scan meet the edge; looked for near a line
/// through `edge.at` on the scan's middle, `slope` pixels along it a pixel across. What meets it with another
/// sense or a third of its contrast is left out. Where the line found lies at another slant, it is looked for
/// anew along it, up to `again` times. The sigmas hold the strips' scatter and what uneven brightness beside
/// the edge moves it by.
LineEdge line_through(const Scan& scan, const std::vector<Strip>& strips, const ScanEdge& edge,
                      double pixel_noise, double slope = 0, int again = 3);

}  // namespace heron
