#include "usage.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>

#include "heron/base/nearest_name.hpp"

namespace heron::tool {
namespace {

/// The command that was called, and its words.
struct Called {
  const CLI::App* command;
  std::string words;
};

Called called_of(const CLI::App* app) {
  Called called{app, "heron"};
  while (!called.command->get_subcommands().empty()) {
    called.command = called.command->get_subcommands().front();
    called.words += " " + called.command->get_name();
  }
  return called;
}

std::vector<std::string> commands_of(const CLI::App& app) {
  std::vector<std::string> names;
  for (const CLI::App* command : app.get_subcommands({})) names.push_back(command->get_name());
  return names;
}

/// The option that was meant: the shortest that has the given word in its name, or else one spelled nearly
/// so.
std::optional<std::string> option_meant(const CLI::App& command, const std::string& given) {
  std::vector<std::string> names;
  for (const CLI::Option* option : command.get_options())
    if (!option->get_positional()) names.push_back(option->get_name());
  const std::string word = given.substr(std::min(given.find_first_not_of('-'), given.size()));
  std::optional<std::string> meant;
  for (const std::string& name : names)
    if (word.size() > 2 && name.find(word) != std::string::npos && (!meant || name.size() < meant->size()))
      meant = name;
  return meant ? meant : nearest_name(given, names);
}

std::string command_wanted(const Called& called) {
  const std::vector<std::string> given = called.command->remaining(), known = commands_of(*called.command);
  const std::string all = fmt::format("there are {}", fmt::join(known, ", "));
  if (given.empty()) return fmt::format("a command is missing; {}", all);
  if (const auto meant = nearest_name(given.front(), known))
    return fmt::format("no command '{}'; did you mean '{}'?", given.front(), *meant);
  return fmt::format("no command '{}'; {}", given.front(), all);
}

std::string too_much(const Called& called) {
  const std::string given = called.command->remaining().front();
  if (given.rfind('-', 0) != 0)
    return fmt::format("'{}' is one word too many; one with a space in it stands in quotes", given);
  const std::string name = given.substr(0, given.find('='));
  if (const auto meant = option_meant(*called.command, name))
    return fmt::format("no option {}; did you mean {}?", name, *meant);
  return fmt::format("no option {}", name);
}

/// What `error` says of one of the command's options, in our words.
std::string of_an_option(const Called& called, const CLI::Error& error) {
  const std::string said = error.what();
  const CLI::Option* about = nullptr;
  for (const CLI::Option* option : called.command->get_options())
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
  for (CLI::App* command : app.get_subcommands({})) {
    for (CLI::Option* option : command->get_options())
      if (!option->get_positional() && option->get_items_expected_max() > 0) option->check(no_option);
    keep_options_apart(*command);
  }
}

std::string wrong_use(const CLI::App* app, const CLI::Error& error) {
  const Called called = called_of(app);
  if (dynamic_cast<const CLI::RequiredError*>(&error) && called.command->get_require_subcommand_min() > 0)
    return fmt::format("{}: {}\n`{} --help` tells what each does\n", called.words, command_wanted(called),
                       called.words);
  return fmt::format(
      "{}: {}\n`{} --help` shows its options and an example\n", called.words,
      dynamic_cast<const CLI::ExtrasError*>(&error) ? too_much(called) : of_an_option(called, error),
      called.words);
}

}  // namespace heron::tool
