#pragma once
#include <vector>

#include "heron/image/image.hpp"

namespace heron {

/// A strong edge, measured across.
struct EdgeQuality {
  double step = 0;   ///< grey levels from one side to the other
  double width = 0;  ///< 10 to 90% of the step, in pixels; 0 when something else is too near
};

/// The strongest edge of each 24 x 24 cell where `mask` is set, when it stands out of the noise.
std::vector<EdgeQuality> strong_edges(const ImageView<const uint8_t>& picture,
                                      const ImageView<const uint8_t>& mask, double noise);

}  // namespace heron
