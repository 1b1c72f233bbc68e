#pragma once
#include <CLI/CLI.hpp>
#include <map>
#include <string>

#include "heron/locate/target.hpp"

namespace heron::tool {

/// The settings of every kind as options of `teach` and `find`, made from the kinds' own tables: what is
/// called min_area in a target's file is --min-area here.
class KindOptions {
 public:
  void add_to(CLI::App& command);
  /// What was given, as settings of that kind. Throws Error{invalid_argument} for text that is none of a
  /// setting's sort.
  std::map<std::string, SettingValue> given(const std::string& kind) const;

 private:
  std::map<std::string, std::string> texts_;
};

/// A setting's option: min_area is --min-area.
std::string option_of(std::string name);
/// A setting from an option's text, of the sort of its usual value. Throws Error{invalid_argument} for any
/// other.
SettingValue value_from(const std::string& text, const NamedSetting& usual);

/// A setting as a person reads it.
std::string setting_words(const SettingValue& value);

}  // namespace heron::tool
