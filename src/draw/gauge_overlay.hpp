#pragma once
#include "canvas.hpp"
#include "heron/image/region.hpp"
#include "heron/report/report.hpp"

namespace heron::draw {

/// Each part with its verdict, and each reading's shape (dashed), what was seen in it, and a label with value
/// and limits. Good: a solid line; bad: a thick line, a cross, and "BAD"; not found and not measured: dotted,
/// and the words. Labels keep off the `charts`.
void draw_readings(Canvas& canvas, const Report& report, const std::vector<Box>& charts, double words_by);

}  // namespace heron::draw
