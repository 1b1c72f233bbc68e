#pragma once
#include <memory>
#include <string>

#include "heron/camera/camera.hpp"

namespace heron {

/// The recording at a station's address, after the pictures that were taken earlier. Throws
/// Error{invalid_argument} for another address.
std::unique_ptr<Camera> recording_of(const std::string& address, size_t passed = 0);

}  // namespace heron
