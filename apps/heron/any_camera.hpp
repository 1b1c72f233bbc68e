#pragma once
#include <memory>
#include <string>

#include "heron/camera/camera.hpp"

namespace heron::tool {

/// The camera at an address: recording:FOLDER, simulated:SEED, v4l2:DEVICE, http://..., genicam:NAME. Throws
/// Error{invalid_argument} for another kind.
std::unique_ptr<Camera> open_any_camera(const std::string& address, Pace pace = Pace::at_once);

}  // namespace heron::tool
