#pragma once
#include "heron/locate/border.hpp"
#include "heron/locate/prepared_picture.hpp"
#include "polyline.hpp"

namespace heron {

/// Damage in the strip beside a border that was found: pixels whose brightness lies off the strip's own,
/// joined where they touch, largest first. `line` holds the border as met, `seen` which of its sides were.
/// What is intact is a parabola of brightness along each side, by Tukey's weights, so the light may change
/// along it.
std::vector<Defect> chips_along(const PreparedPicture& prepared, const Polyline& line,
                                const std::vector<bool>& seen, const BorderSettings& settings);

/// The strip's two edges beside a side, for drawing.
std::vector<Contour> strip_lines(const Polyline& line, const BorderSettings& settings);

}  // namespace heron
