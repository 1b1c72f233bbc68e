#pragma once
#include <string>

#include "heron/report/report.hpp"

namespace heron::tool {

/// Writes the pictures of crop gauges, which an outside reader is shown: FOLDER/PICTURE-GAUGE-PART.png.
void save_crops(const std::string& folder, const Report& report);

}  // namespace heron::tool
