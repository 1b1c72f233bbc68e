#pragma once
#include "heron/calibrate/plane.hpp"
#include "heron/geometry/mapping.hpp"
#include "heron/plot/plot.hpp"

namespace heron {

/// Standard uncertainty of a place on the work plane, over the picture, in millimetres with lines of equal
/// value; blank where a pixel looks past the plane. Dots: the points that the mapping was made from.
PlotSheet sigma_plot(int width, int height, const Mapping& mapping, const std::vector<MappedPoint>& points);

/// Statistics of a calibration's residuals: both coordinates against each other, their length over the
/// distance from the picture's centre (a lens shows there), and how often each size comes beside a normal
/// distribution of the same scatter.
PlotSheet residual_plot(int width, int height, const std::vector<MappedPoint>& points);

}  // namespace heron
