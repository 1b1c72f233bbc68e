#pragma once
#include <string>
#include <vector>

#include "heron/calibrate/lens.hpp"

namespace heron {

/// Which further views would help, as text: parts of the picture without points, tilts that are missing.
std::vector<std::string> views_missing(const LensCalibration& calibration, int width, int height);

}  // namespace heron
