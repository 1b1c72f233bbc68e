#pragma once
#include <memory>
#include <string>

#include "heron/camera/camera.hpp"

namespace heron::tool {

/// The camera at an address: recording:FOLDER, simulated:SEED, v4l2:DEVICE, http://..., genicam:NAME. Throws
/// Error{invalid_argument} for another kind. `stop` ends the camera's waits.
std::unique_ptr<Camera> open_any_camera(const std::string& address, Pace pace = Pace::at_once,
                                        const Work* stop = nullptr);

}  // namespace heron::tool
