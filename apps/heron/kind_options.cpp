#include "kind_options.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>

#include "help.hpp"
#include "options.hpp"

namespace heron::tool {
namespace {

/// A pattern's own settings have options with longer words in `teach`.
bool has_own_options(const KindInfo& kind) { return kind.id == PatternTarget::info().id; }

}  // namespace

std::string option_of(std::string name) {
  std::replace(name.begin(), name.end(), '_', '-');
  return "--" + name;
}

SettingValue value_from(const std::string& text, const NamedSetting& usual) {
  const std::string option = option_of(usual.name);
  if (std::holds_alternative<std::string>(usual.value)) return text;
  if (std::holds_alternative<bool>(usual.value)) {
    if (text == "yes" || text == "true") return true;
    if (text == "no" || text == "false") return false;
    fail_argument(fmt::format("{} \"{}\" must be yes or no", option, text));
  }
  if (std::holds_alternative<std::vector<std::string>>(usual.value)) {
    std::vector<std::string> names{""};
    for (const char c : text)
      if (c == ',')
        names.emplace_back();
      else if (c != ' ' || !names.back().empty())
        names.back() += c;
    return names;
  }
  const auto count = static_cast<size_t>(std::count(text.begin(), text.end(), ',')) + 1;
  const bool row = std::holds_alternative<std::vector<double>>(usual.value);
  const std::vector<double> numbers =
      parse_numbers(text, row ? count : 1, option.c_str(), row ? "numbers with commas between" : "a number");
  if (row) return numbers;
  if (std::holds_alternative<double>(usual.value)) return numbers[0];
  if (numbers[0] != std::floor(numbers[0]) || std::abs(numbers[0]) > 1e9)
    fail_argument(fmt::format("{} {} must be a whole number", option, text));
  return static_cast<int>(numbers[0]);
}

void KindOptions::add_to(CLI::App& command) {
  std::map<std::string, std::string> help;  // settings of one name share an option
  std::vector<std::string> order;
  for (const KindInfo* kind : kinds()) {
    if (has_own_options(*kind)) continue;
    for (const NamedSetting& s : settings_of(kind->id)) {
      if (s.learned) continue;
      if (!help.count(s.name)) order.push_back(s.name);
      std::string& words = help[s.name];
      words += fmt::format("{}{}: {}", words.empty() ? "" : "; ", kind->id, s.help);
    }
  }
  for (const std::string& name : order)
    command.add_option(option_of(name), texts_[name], help[name])->group(settings_group)->expected(1);
}

std::map<std::string, SettingValue> KindOptions::given(const std::string& kind) const {
  const std::vector<NamedSetting> settings = settings_of(kind);
  std::map<std::string, SettingValue> values;
  for (const auto& [name, text] : texts_) {
    if (text.empty()) continue;
    const auto own = std::find_if(settings.begin(), settings.end(),
                                  [&, &wanted = name](const NamedSetting& s) { return s.name == wanted; });
    if (own == settings.end()) {
      std::vector<std::string> there;
      for (const NamedSetting& s : settings)
        if (!s.learned) there.push_back(option_of(s.name));
      fail_argument(
          fmt::format("{} is no setting of a {}; it has: {}", option_of(name), kind, fmt::join(there, ", ")));
    }
    values[name] = value_from(text, *own);
  }
  return values;
}

std::string setting_words(const SettingValue& value) {
  if (const auto* number = std::get_if<double>(&value)) return fmt::format("{:g}", *number);
  if (const auto* whole = std::get_if<int>(&value)) return fmt::format("{}", *whole);
  if (const auto* flag = std::get_if<bool>(&value)) return *flag ? "yes" : "no";
  if (const auto* word = std::get_if<std::string>(&value)) return *word;
  std::vector<std::string> texts;
  if (const auto* names = std::get_if<std::vector<std::string>>(&value))
    texts = *names;
  else
    for (const double v : std::get<std::vector<double>>(value)) texts.push_back(fmt::format("{:g}", v));
  return texts.empty() ? "-" : fmt::format("{}", fmt::join(texts, ","));
}

}  // namespace heron::tool
