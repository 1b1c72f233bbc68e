#include "manual.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <filesystem>
#include <map>

#include "heron/base/error.hpp"
#include "heron/files/atomic_file.hpp"

namespace heron::tool {
namespace {

/// What people see: options and commands in a group.
bool is_shown(const CLI::Option& option) { return !option.get_group().empty(); }

std::vector<const CLI::App*> commands_of(const CLI::App& app) {
  return app.get_subcommands([](const CLI::App* c) { return !c->get_group().empty(); });
}

/// "heron demo cart" as a chain of names below the program: "demo cart".
struct Command {
  std::string path;
  const CLI::App* app;
};

void collect(const CLI::App& app, const std::string& path, std::vector<Command>& all) {
  all.push_back({path, &app});
  for (const CLI::App* c : commands_of(app))
    collect(*c, path.empty() ? c->get_name() : path + " " + c->get_name(), all);
}

std::vector<std::string> flags_of(const CLI::App& app) {
  std::vector<std::string> flags;
  for (const CLI::Option* o : app.get_options())
    if (is_shown(*o) && !o->get_positional())
      for (const std::string& name : o->get_lnames()) flags.push_back("--" + name);
  return flags;
}

std::string replaced(std::string text, const std::map<char, std::string>& by) {
  std::string result;
  for (const char c : text) {
    const auto found = by.find(c);
    result += found == by.end() ? std::string(1, c) : found->second;
  }
  return result;
}

/// Text for troff: a backslash, a dash, and a line that begins with a request.
std::string roff(const std::string& text) {
  std::string safe = replaced(text, {{'\\', "\\e"}, {'-', "\\-"}});
  std::string result;
  bool begins = true;
  for (const char c : safe) {
    if (begins && (c == '.' || c == '\'')) result += "\\&";
    result += c;
    begins = c == '\n';
  }
  return result;
}

std::string man_options(const CLI::App& app) {
  std::string text, group;
  std::map<std::string, std::string> groups;
  std::vector<std::string> order;
  for (const CLI::Option* o : app.get_options()) {
    if (!is_shown(*o)) continue;
    const std::string name = o->get_positional() ? "Arguments" : o->get_group();
    if (!groups.contains(name)) order.push_back(name);
    const std::string label = o->get_positional() ? o->get_name(true) : o->get_name(false, true);
    const bool takes_value = !o->get_positional() && o->get_items_expected_max() > 0;
    groups[name] += fmt::format(".TP\n.B {}{}\n{}\n", roff(label), takes_value ? " \\fIVALUE\\fR" : "",
                                roff(o->get_description()));
  }
  for (const std::string& name : order) text += fmt::format(".SS {}\n{}", roff(name), groups[name]);
  return text;
}

std::string man_page(const Command& command, const std::vector<Command>& all) {
  const bool is_program = command.path.empty();
  const std::string name = is_program ? "heron" : "heron-" + replaced(command.path, {{' ', "-"}});
  const std::string description = command.app->get_description();
  std::string text =
      fmt::format(".TH {} 1 \"\" \"Able Heron\" \"Able Heron\"\n", replaced(name, {{'-', "\\-"}}));
  text +=
      fmt::format(".SH NAME\n{} \\- {}\n", roff(name), roff(description.substr(0, description.find('\n'))));
  text += fmt::format(".SH SYNOPSIS\n.B heron{}\n[\\fIOPTIONS\\fR]\n",
                      is_program ? " \\fICOMMAND\\fR" : " " + roff(command.path));
  text += fmt::format(".SH DESCRIPTION\n{}\n", roff(description));
  if (const std::string options = man_options(*command.app); !options.empty())
    text += ".SH OPTIONS\n" + options;
  std::string below;
  for (const Command& c : all)
    if (c.path != command.path && (is_program || c.path.starts_with(command.path + " ")))
      below += fmt::format(".TP\n.B {}\n{}\n", roff("heron " + c.path), roff(c.app->get_description()));
  if (!below.empty()) text += ".SH COMMANDS\n" + below;
  if (const std::string footer = command.app->get_footer(); !footer.empty())
    text += fmt::format(".SH EXAMPLES\n.nf\n{}\n.fi\n", roff(footer));
  if (!is_program) text += ".SH SEE ALSO\n.BR heron (1)\n";
  return text;
}

std::string bash_completion(const std::vector<Command>& all) {
  std::vector<std::string> chains;
  std::string words;
  for (const Command& c : all) {
    const size_t parent = c.path.rfind(' ');
    if (!c.path.empty())
      chains.push_back(fmt::format("\"{} {}\"", parent == std::string::npos ? "" : c.path.substr(0, parent),
                                   parent == std::string::npos ? c.path : c.path.substr(parent + 1)));
    std::vector<std::string> next = flags_of(*c.app);
    for (const CLI::App* sub : commands_of(*c.app)) next.push_back(sub->get_name());
    words += fmt::format("    \"{}\") words=\"{}\" ;;\n", c.path, fmt::join(next, " "));
  }
  return fmt::format(
      "# Completion of heron for bash.\n"
      "_heron() {{\n"
      "  local current=${{COMP_WORDS[COMP_CWORD]}} path=\"\" word words=\"\"\n"
      "  for word in \"${{COMP_WORDS[@]:1:COMP_CWORD-1}}\"; do\n"
      "    case \"$path $word\" in\n"
      "      {}) path=\"${{path:+$path }}$word\" ;;\n"
      "    esac\n"
      "  done\n"
      "  case \"$path\" in\n{}  esac\n"
      "  COMPREPLY=($(compgen -W \"$words\" -- \"$current\"))\n"
      "  [[ $current == -* || -z $path ]] || COMPREPLY+=($(compgen -f -- \"$current\"))\n"
      "}}\n"
      "complete -o filenames -F _heron heron\n",
      fmt::join(chains, "|"), words);
}

/// The first line of a description, for shells that show it beside the word.
std::string brief(const std::string& description) {
  return replaced(description.substr(0, description.find('\n')),
                  {{'\'', "\u2019"}, {'[', "("}, {']', ")"}, {':', " "}});
}

std::string zsh_completion(const std::vector<Command>& all) {
  std::string commands, cases;
  for (const Command& c : all) {
    if (c.path.empty()) continue;
    if (c.path.find(' ') == std::string::npos)
      commands += fmt::format("    '{}:{}'\n", c.path, brief(c.app->get_description()));
    std::string arguments;
    for (const CLI::Option* o : c.app->get_options()) {
      if (!is_shown(*o) || o->get_positional()) continue;
      const bool takes_value = o->get_items_expected_max() > 0;
      for (const std::string& name : o->get_lnames())
        arguments += fmt::format(" \\\n        '--{}[{}]{}'", name, brief(o->get_description()),
                                 takes_value ? ":value:_files" : "");
    }
    std::vector<std::string> below;
    for (const CLI::App* sub : commands_of(*c.app)) below.push_back(sub->get_name());
    const std::string rest =
        below.empty() ? "'*:file:_files'" : fmt::format("'1:command:({})'", fmt::join(below, " "));
    cases += fmt::format("    '{}')\n      _arguments{} \\\n        {} ;;\n", c.path, arguments, rest);
  }
  return fmt::format(
      "#compdef heron\n"
      "# Completion of heron for zsh.\n"
      "local -a commands\n"
      "commands=(\n{}  )\n"
      "if (( CURRENT == 2 )); then\n"
      "  _describe command commands\n"
      "else\n"
      "  local path_of=$words[2]\n"
      "  [[ $path_of == (demo|simulate) && -n $words[3] && $words[3] != -* && CURRENT -gt 3 ]] && "
      "path_of=\"$path_of $words[3]\" && words=(heron \"${{(@)words[4,-1]}}\") && (( CURRENT -= 2 ))\n"
      "  [[ $path_of == *' '* ]] || {{ words=(heron \"${{(@)words[3,-1]}}\"); (( CURRENT -= 1 )) }}\n"
      "  case $path_of in\n{}  esac\n"
      "fi\n",
      commands, cases);
}

std::string fish_completion(const std::vector<Command>& all) {
  std::string text = "# Completion of heron for fish.\n";
  for (const Command& c : all) {
    const size_t parent = c.path.rfind(' ');
    if (!c.path.empty())
      text += fmt::format("complete -c heron -n {} -a {} -d '{}'\n",
                          parent == std::string::npos
                              ? "__fish_use_subcommand"
                              : fmt::format("'__fish_seen_subcommand_from {}'", c.path.substr(0, parent)),
                          parent == std::string::npos ? c.path : c.path.substr(parent + 1),
                          brief(c.app->get_description()));
    const std::string last = parent == std::string::npos ? c.path : c.path.substr(parent + 1);
    for (const CLI::Option* o : c.app->get_options()) {
      if (!is_shown(*o) || o->get_positional()) continue;
      for (const std::string& name : o->get_lnames())
        text += fmt::format("complete -c heron -n '{}' -l {}{} -d '{}'\n",
                            c.path.empty() ? "__fish_use_subcommand" : "__fish_seen_subcommand_from " + last,
                            name, o->get_items_expected_max() > 0 ? " -r" : "", brief(o->get_description()));
    }
  }
  return text;
}

}  // namespace

void write_manual(const CLI::App& app, const std::string& folder) {
  std::vector<Command> all;
  collect(app, "", all);
  std::error_code error;
  for (const char* part : {"man1", "completions"})
    if (std::filesystem::create_directories(std::filesystem::path(folder) / part, error); error)
      throw Error(ErrorCode::not_writable, ErrorPlace{folder}, "cannot be made: " + error.message());
  for (const Command& c : all)
    write_file(
        fmt::format("{}/man1/heron{}{}.1", folder, c.path.empty() ? "" : "-", replaced(c.path, {{' ', "-"}})),
        man_page(c, all));
  write_file(folder + "/completions/heron.bash", bash_completion(all));
  write_file(folder + "/completions/_heron", zsh_completion(all));
  write_file(folder + "/completions/heron.fish", fish_completion(all));
}

void add_manual(CLI::App& app, Action& action) {
  const auto folder = std::make_shared<std::string>();
  CLI::App* c = app.add_subcommand("manual", "Writes the man pages and shell completions into a folder");
  c->group("");
  c->add_option("folder", *folder, "folder, made when it is missing")->required();
  c->callback([&app, &action, folder] {
    action = [&app, folder] {
      write_manual(app, *folder);
      return 0;
    };
  });
}

}  // namespace heron::tool
