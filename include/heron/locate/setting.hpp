#pragma once
#include <string>
#include <variant>
#include <vector>

#include "heron/base/error.hpp"

namespace heron {

/// The value of a setting as it stands in a target file.
using SettingValue =
    std::variant<double, int, bool, std::string, std::vector<double>, std::vector<std::string>>;

/// One of a few words, held as a number.
template <class Settings>
struct SettingWord {
  int (*get)(const Settings&);
  void (*set)(Settings&, int);
  std::vector<const char*> words;
};

/// The words of an enum's member, in the order of its values.
template <class Settings, auto member>
SettingWord<Settings> setting_word(std::vector<const char*> words) {
  return {[](const Settings& s) { return static_cast<int>(s.*member); },
          [](Settings& s, int i) { s.*member = static_cast<std::decay_t<decltype(s.*member)>>(i); },
          std::move(words)};
}

/// A setting of a kind of target or gauge: files, options and tables are made from these rows, so that a kind
/// names its settings in one place. `name` is as in the file, min_area; the tool's option is --min-area.
template <class Settings>
struct SettingRow {
  const char* name;
  std::variant<double Settings::*, int Settings::*, bool Settings::*, std::vector<double> Settings::*,
               std::string Settings::*, std::vector<std::string> Settings::*, SettingWord<Settings>>
      place;
  const char* help;
  bool learned = false;  ///< written by teaching, so it is no option of the tool
};

/// Throws Error{invalid_argument}: `word` must be one of `words`.
size_t word_index(const std::string& name, const std::string& word, const std::vector<const char*>& words);
[[noreturn]] void refuse_setting(const std::string& name, const char* needs);

template <class Settings>
SettingValue value_of(const SettingRow<Settings>& row, const Settings& settings) {
  return std::visit(
      [&](const auto& place) -> SettingValue {
        if constexpr (std::is_same_v<std::decay_t<decltype(place)>, SettingWord<Settings>>)
          return std::string(place.words[static_cast<size_t>(place.get(settings))]);
        else
          return settings.*place;
      },
      row.place);
}

/// Throws Error{invalid_argument} when the value is of another sort than the setting.
template <class Settings>
void set_value(const SettingRow<Settings>& row, Settings& settings, const SettingValue& value) {
  std::visit(
      [&](const auto& place) {
        using Place = std::decay_t<decltype(place)>;
        if constexpr (std::is_same_v<Place, SettingWord<Settings>>) {
          const auto* word = std::get_if<std::string>(&value);
          if (!word) refuse_setting(row.name, "a word");
          place.set(settings, static_cast<int>(word_index(row.name, *word, place.words)));
        } else if constexpr (std::is_same_v<Place, double Settings::*>) {
          if (const auto* whole = std::get_if<int>(&value)) return void(settings.*place = *whole);
          const auto* number = std::get_if<double>(&value);
          if (!number) refuse_setting(row.name, "a number");
          settings.*place = *number;
        } else {
          using Value = std::decay_t<decltype(settings.*place)>;
          const auto* same = std::get_if<Value>(&value);
          if (!same)
            refuse_setting(row.name, std::is_same_v<Value, int>                        ? "a whole number"
                                     : std::is_same_v<Value, bool>                     ? "true or false"
                                     : std::is_same_v<Value, std::string>              ? "a word"
                                     : std::is_same_v<Value, std::vector<std::string>> ? "a row of names"
                                                                                       : "a row of numbers");
          settings.*place = *same;
        }
      },
      row.place);
}

}  // namespace heron
