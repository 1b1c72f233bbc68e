#pragma once
#include <memory>

#include "heron/camera/camera.hpp"

namespace heron {

/// A camera above the tray station of that seed: exposure 0.05 to 50 ms (8 is right), gain 1 to 16 with its
/// noise; each picture shows the next of its views, round and round. Endless.
std::unique_ptr<Camera> open_simulated(uint64_t seed);

}  // namespace heron
