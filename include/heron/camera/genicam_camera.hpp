#pragma once
#include "heron/camera/camera.hpp"

namespace heron {

/// A GenICam camera (GigE Vision, USB3 Vision) through Aravis, by its name as `list_genicam` returns it, or
/// by its network address; one picture is exposed for each `take`, and again, while there is timeout, when
/// packets of it were lost. Grey of 8 or 16 bit and RGB are read. Gain is in the camera's unit, mostly dB.
/// Throws Error{no_connection}.
std::unique_ptr<Camera> open_genicam(const std::string& name, const CameraTimeout& timeout = {});

/// Every such camera that answers on the network and the bus now. Takes up to a second.
std::vector<CameraInfo> list_genicam();

}  // namespace heron
