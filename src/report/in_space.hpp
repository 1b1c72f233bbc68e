#pragma once
#include <optional>

#include "heron/geometry/camera_mapping.hpp"
#include "heron/locate/detection.hpp"

namespace heron {

/// Where something of known size stands in space, wherever that is: all of its pose from four taught points
/// or more, else its place by the length of its first span. Nothing where the camera has no ray for it, or
/// its points fix no pose. `distance` is then filled too.
std::optional<WorldPose> in_space(const Detection& detection, const CameraMapping& mapping, double size_mm,
                                  std::optional<WidthDistance>& distance);

}  // namespace heron
