#include "setting_toml.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>

namespace heron {

std::string toml_of(const SettingValue& value) {
  if (const auto* number = std::get_if<double>(&value)) return toml_number(*number);
  if (const auto* whole = std::get_if<int>(&value)) return fmt::format("{}", *whole);
  if (const auto* flag = std::get_if<bool>(&value)) return *flag ? "true" : "false";
  if (const auto* word = std::get_if<std::string>(&value)) return toml_text(*word);
  std::vector<std::string> texts;
  if (const auto* names = std::get_if<std::vector<std::string>>(&value))
    for (const std::string& name : *names) texts.push_back(toml_text(name));
  else
    for (const double v : std::get<std::vector<double>>(value)) texts.push_back(toml_number(v));
  return fmt::format("[{}]", fmt::join(texts, ", "));
}

SettingValue setting_from(const TomlTable& file, const std::string& name, const SettingValue& usual) {
  if (const auto* number = std::get_if<double>(&usual)) return file.number(name, *number);
  if (const auto* whole = std::get_if<int>(&usual)) return file.whole(name, *whole);
  if (const auto* flag = std::get_if<bool>(&usual)) return file.flag(name, *flag);
  if (const auto* word = std::get_if<std::string>(&usual)) return file.text(name, *word);
  if (std::holds_alternative<std::vector<std::string>>(usual))
    return file.has(name) ? SettingValue(file.texts(name)) : usual;
  return file.has(name) ? SettingValue(file.numbers(name)) : usual;
}

}  // namespace heron
