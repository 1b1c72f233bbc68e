#pragma once
#include <vector>

#include "heron/base/point.hpp"
#include "heron/image/image.hpp"

namespace heron::render {

/// canvas = canvas + coverage * (value - canvas), where coverage is the exact share of each cell inside the
/// loops. Cell (x, y) lengths x to x + 1 and y to y + 1.
void fill_exactly(ImageView<float> canvas, const std::vector<std::vector<Point2>>& loops, float value);

}  // namespace heron::render
