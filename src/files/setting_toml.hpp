#pragma once
#include <string>

#include "heron/files/toml_file.hpp"
#include "heron/locate/setting.hpp"

namespace heron {

/// A setting's value as TOML, and back as what its usual value is.
std::string toml_of(const SettingValue& value);
SettingValue setting_from(const TomlTable& file, const std::string& name, const SettingValue& usual);

}  // namespace heron
