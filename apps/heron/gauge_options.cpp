#include "gauge_options.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <vector>

#include "help.hpp"
#include "kind_options.hpp"

namespace heron::tool {

void GaugeOptions::add_to(CLI::App& command) {
  std::map<std::string, std::string> help;  // settings of one name share an option
  std::vector<std::string> order;
  for (const GaugeKind& kind : gauge_kinds())
    for (const NamedSetting& s : settings_of(kind)) {
      if (s.learned) continue;
      std::string& words = help[s.name];
      if (words.empty()) order.push_back(s.name);
      if (words.find(s.help) == std::string::npos)
        words += fmt::format("{}{}: {}", words.empty() ? "" : "; ", id_of(kind), s.help);
    }
  for (const std::string& name : order)
    command.add_option(option_of(name), texts_[name], help[name])->group(settings_group)->expected(1);
}

GaugeKind GaugeOptions::applied_to(GaugeKind kind) const {
  const std::vector<NamedSetting> settings = settings_of(kind);
  for (const auto& [name, text] : texts_) {
    if (text.empty()) continue;
    const auto own = std::find_if(settings.begin(), settings.end(),
                                  [&, &wanted = name](const NamedSetting& s) { return s.name == wanted; });
    // A setting that the kind does not have is refused by its name.
    set_setting(kind, name, own == settings.end() ? SettingValue(text) : value_from(text, *own));
  }
  return kind;
}

Follows parse_follows(const std::string& text) {
  Follows follows{.x = false, .y = false, .angle = false, .scale = false};
  if (text == "nothing") return follows;
  std::string word;
  for (const char c : text + ",") {
    if (c != ',') {
      word += c;
      continue;
    }
    bool* const component = word == "x"       ? &follows.x
                            : word == "y"     ? &follows.y
                            : word == "angle" ? &follows.angle
                            : word == "scale" ? &follows.scale
                                              : nullptr;
    if (!component)
      fail_argument(fmt::format(
          "gauge: --follows \"{}\" must be components with commas between, of x, y, angle and scale, or "
          "nothing",
          text));
    *component = true, word.clear();
  }
  return follows;
}

}  // namespace heron::tool
