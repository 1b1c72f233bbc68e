#include "help.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <sstream>

#include "heron/files/target_file.hpp"
#include "heron/gauge/gauge.hpp"
#include "kind_options.hpp"

namespace heron::tool {
namespace {

constexpr size_t description_width = 88;  // beside the column of the names

std::string wrapped(const std::string& text) {
  std::string result;
  size_t column = 0;
  for (size_t from = 0; from < text.size();) {
    const size_t end = std::min(text.find(' ', from), text.size());
    if (column > 0 && column + 1 + end - from > description_width)
      result += '\n', column = 0;
    else if (column > 0)
      result += ' ', ++column;
    result += text.substr(from, end - from);
    column += end - from;
    from = end + 1;
  }
  return result;
}

/// "--min-score" as the kinds' tables call it: "min score" with a space, "min_score" with an underscore.
std::string table_name(const CLI::Option& option, char between) {
  std::string name = option.get_name().substr(2);
  std::replace(name.begin(), name.end(), '-', between);
  return name;
}

/// Options of `teach` that only some kinds can use.
bool teach_uses(const KindInfo& kind, const std::string& option) {
  const bool pattern = kind.id == std::string("pattern"), marker = kind.id == std::string("marker");
  if (option == "--background") return kind.backgrounds;
  if (option == "--not") return kind.counter_samples;
  if (option == "--also" || option == "--stable-share" || option == "--edge-threshold" ||
      option == "--detail")
    return pattern;
  if (option == "--diameter-mm" || option == "--tolerance-mm") return marker;
  return true;
}

void fit_to(const CLI::App& command, const KindInfo* kind) {
  std::vector<NamedSetting> settings;
  if (kind) settings = settings_of(kind->id);
  for (const CLI::Option* known : command.get_options()) {
    auto* option = const_cast<CLI::Option*>(known);  // the list is of constant options, the command is ours
    const std::string name = option->get_name(), group = option->get_group();
    bool shown = !kind || teach_uses(*kind, name);
    if (group == settings_group && name != "--edge-threshold" && name != "--detail") {
      const auto own = std::find_if(settings.begin(), settings.end(), [&](const NamedSetting& s) {
        return s.name == table_name(*option, '_');
      });
      shown = own != settings.end();
      if (shown) option->description(fmt::format("{} [{}]", own->help, setting_words(own->value)));
    } else if (group == settings_group) {
      shown = kind && shown;
    } else if (group == limits_group && kind && name != "--quick" && name != "--budget") {
      shown = honours(*kind, table_name(*option, ' '));
    }
    if (!shown) option->group("");
  }
}

/// Leaves of the settings in the help of `gauge add` those of one kind of gauge, with their defaults.
void fit_to_gauge(const CLI::App& command, const std::string& kind) {
  const std::vector<NamedSetting> settings = settings_of(gauge_kind_named(kind));
  for (const CLI::Option* known : command.get_options()) {
    auto* option = const_cast<CLI::Option*>(known);  // as above
    if (option->get_group() != settings_group) continue;
    const auto own = std::find_if(settings.begin(), settings.end(),
                                  [&](const NamedSetting& s) { return s.name == table_name(*option, '_'); });
    if (own == settings.end())
      option->group("");
    else
      option->description(fmt::format("{} [{}]", own->help, setting_words(own->value)));
  }
}

const KindInfo* kind_of_target(const std::string& path) {
  try {
    return &load_target(path).target.info();
  } catch (const Error&) {
    return nullptr;  // help is given for a target that cannot be read as well
  }
}

}  // namespace

HelpFormatter::HelpFormatter() {
  for (const char* number : {"FLOAT", "INT", "UINT"}) label(number, "NUMBER");
  label("TEXT", "VALUE");
  label("REQUIRED", "(required)");
  label("Positionals", "Arguments");
  label("SUBCOMMAND", "COMMAND");
  label("Subcommands", "Commands");
}

std::string HelpFormatter::make_option_desc(const CLI::Option* option) const {
  return wrapped(CLI::Formatter::make_option_desc(option));
}

std::string HelpFormatter::make_subcommand(const CLI::App* command) const {
  std::ostringstream out;
  CLI::detail::format_help(out, command->get_name(), wrapped(command->get_description()), column_width_);
  return out.str();
}

void fit_help(const CLI::App& app) {
  if (app.get_subcommands().empty()) return;
  const CLI::App& command = *app.get_subcommands().front();
  if (command.get_name() == "teach") {
    const auto kind = command.get_option("--kind")->results();
    fit_to(command, kind.empty() ? nullptr : &kind_named(kind.front()));
  } else if (command.get_name() == "find") {
    const auto target = command.get_option("target")->results();
    fit_to(command, target.empty() ? nullptr : kind_of_target(target.front()));
  } else if (command.get_name() == "gauge" && !command.get_subcommands().empty() &&
             command.get_subcommands().front()->get_name() == "add") {
    const CLI::App& add = *command.get_subcommands().front();
    const auto kind = add.get_option("--kind")->results();
    if (!kind.empty()) fit_to_gauge(add, kind.front());
  }
}

}  // namespace heron::tool
