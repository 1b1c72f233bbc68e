#pragma once
#include "heron/files/toml_file.hpp"
#include "heron/station/gripper.hpp"

namespace heron {

/// The tables [gripper] and [place] of a set-up.
GripperSettings gripper_of(const TomlTable& t, const std::string& folder);
PlaceSettings place_of(const TomlTable& t, const std::string& folder);
/// The grasps of a [[target]]; empty where it has none.
std::vector<PartFromGrasp> grasps_of(const TomlTable& t);

}  // namespace heron
