#include "usage.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>
#include <cmath>
#include <cstdlib>

#include "heron/base/nearest_name.hpp"
#include "options.hpp"

namespace heron::tool {
namespace {

/// A command, its words, and what it did not understand.
struct Called {
  const CLI::App* command;
  std::string words;
  std::vector<std::string> left() const { return command->remaining(); }
};

/// The commands of a call from the outermost on: `heron`, `heron simulate`, `heron simulate tray`.
std::vector<Called> called_of(const CLI::App* app) {
  std::vector<Called> all{{app, "heron"}};
  while (!all.back().command->get_subcommands().empty()) {
    const CLI::App* command = all.back().command->get_subcommands().front();
    all.push_back({command, all.back().words + " " + command->get_name()});
  }
  return all;
}

std::vector<std::string> commands_of(const CLI::App& app) {
  std::vector<std::string> names;
  for (const CLI::App* command : app.get_subcommands({}))
    if (!command->get_group().empty()) names.push_back(command->get_name());
  return names;
}

/// The option that was meant: the shortest that has the given word in its name, or else one spelled nearly
/// so.
std::optional<std::string> option_meant(const CLI::App& command, const std::string& given) {
  const auto word_of = [](const std::string& option) {
    return option.substr(std::min(option.find_first_not_of('-'), option.size()));
  };
  const std::string word = word_of(given);
  std::vector<std::string> names;
  for (const CLI::Option* option : command.get_options())
    if (!option->get_positional()) names.push_back(word_of(option->get_name()));
  std::optional<std::string> meant;
  for (const std::string& name : names)
    if (word.size() > 2 && name.find(word) != std::string::npos && (!meant || name.size() < meant->size()))
      meant = name;
  if (!meant) meant = nearest_name(word, names);
  return meant ? std::optional("--" + *meant) : std::nullopt;
}

std::string command_wanted(const Called& called) {
  const std::vector<std::string> given = called.left(), known = commands_of(*called.command);
  const std::string all = fmt::format("there are {}", fmt::join(known, ", "));
  if (given.empty()) return fmt::format("a command is missing; {}", all);
  if (const auto meant = nearest_name(given.front(), known))
    return fmt::format("no command '{}'; did you mean '{}'?", given.front(), *meant);
  return fmt::format("no command '{}'; {}", given.front(), all);
}

/// Of words that are too many; `last` is the innermost command.
std::string too_much(const Called& called, const Called& last) {
  const std::string given = called.left().front();
  if (given.rfind('-', 0) != 0)
    return fmt::format("'{}' is not expected here; put a value with spaces in quotes", given);
  const std::string name = given.substr(0, given.find('='));
  if (called.command != last.command && last.command->get_option_no_throw(name))
    return fmt::format("{} belongs after `{}`", name, last.words);
  if (const auto meant = option_meant(*called.command, name))
    return fmt::format("no option {}; did you mean {}?", name, *meant);
  return fmt::format("no option {}", name);
}

/// The text of an error about one of the command's options.
std::string of_an_option(const CLI::App& command, const CLI::Error& error) {
  const std::string said = error.what();
  const CLI::Option* about = nullptr;
  for (const CLI::Option* option : command.get_options())
    if (said.find(option->get_name()) != std::string::npos &&
        (!about || option->get_name().size() > about->get_name().size()))
      about = option;
  if (!about) return said;
  const std::string name = about->get_positional() ? "'" + about->get_name() + "'" : about->get_name();
  const std::string meaning = about->get_description();
  const auto with_meaning = [&](const std::string& what) {
    return name + what + (meaning.empty() ? "" : " (" + meaning + ")");
  };
  if (dynamic_cast<const CLI::RequiredError*>(&error)) return with_meaning(" is missing");
  if (dynamic_cast<const CLI::ArgumentMismatch*>(&error))
    return with_meaning(about->count() > 1 ? " is given more than once" : " needs a value");
  if (dynamic_cast<const CLI::ConversionError*>(&error))
    return with_meaning(fmt::format(" '{}' is no {}number", fmt::join(about->results(), " "),
                                    about->get_type_name() == "INT" ? "whole " : ""));
  return said;
}

}  // namespace

void keep_options_apart(CLI::App& app) {
  const CLI::Validator no_option(
      [](std::string& value) {
        return value.size() > 2 && value.rfind("--", 0) == 0
                   ? fmt::format("a value is missing before {}", value.substr(0, value.find('=')))
                   : std::string();
      },
      "");
  const CLI::Validator number(
      [](std::string& value) {
        const double v = std::strtod(value.c_str(), nullptr);  // words that are none are refused elsewhere
        return std::abs(v) <= largest_number
                   ? std::string()
                   : fmt::format("'{}' is beyond {:g} either side of 0", value, largest_number);
      },
      "");
  for (CLI::App* command : app.get_subcommands({})) {
    if (command->get_group() == "Subcommands") command->group("Commands");
    for (CLI::Option* option : command->get_options())
      if (option->get_type_name().starts_with("FLOAT")) option->check(number);
    for (CLI::Option* option : command->get_options())
      if (!option->get_positional() && option->get_items_expected_max() > 0) option->check(no_option);
    keep_options_apart(*command);
  }
}

std::string wrong_use(const CLI::App* app, const CLI::Error& error) {
  const std::vector<Called> all = called_of(app);
  const Called& last = all.back();
  if (dynamic_cast<const CLI::RequiredError*>(&error) && last.command->get_require_subcommand_min() > 0)
    return fmt::format("{}: {}\n`{} --help` explains each\n", last.words, command_wanted(last), last.words);
  const auto with_more =
      std::find_if(all.begin(), all.end(), [](const Called& c) { return !c.left().empty(); });
  const bool too_many = dynamic_cast<const CLI::ExtrasError*>(&error) && with_more != all.end();
  const Called& about = too_many ? *with_more : last;
  return fmt::format("{}: {}\n`{} --help` shows its options{}\n", about.words,
                     too_many ? too_much(about, last) : of_an_option(*last.command, error), about.words,
                     about.command == last.command ? " and an example" : "");
}

}  // namespace heron::tool
