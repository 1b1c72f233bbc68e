#pragma once
#include <map>
#include <utility>
#include <vector>

#include "heron/base/point.hpp"

namespace heron {

/// Points on a slanted lattice: (i, j) to the index of the point.
using Lattice = std::map<std::pair<int, int>, size_t>;

/// Grows the largest lattice that the points hold: from seeds in the middle, each next point is predicted
/// from its labelled neighbours. Rows and columns at the rim that hold few points (outliers) are left out;
/// the smallest i and j are 0.
Lattice grow_lattice(const std::vector<Point2>& points);

}  // namespace heron
