#pragma once
#include <string>

#include "heron/heights/ground.hpp"

namespace heron {

/// The table's plane as a TOML file that a person can read; complete or not at all.
void save_ground(const std::string& path, const GroundPlane& plane);

/// Throws Error{bad_file} with line and column.
GroundPlane load_ground(const std::string& path);

}  // namespace heron
