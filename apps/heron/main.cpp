#include <fmt/format.h>

#include <algorithm>
#include <cerrno>
#include <csignal>
#include <cstdio>
#include <cstring>
#include <optional>
#include <vector>

#include "commands.hpp"
#include "help.hpp"
#include "heron/base/error.hpp"
#include "heron/base/memory.hpp"
#include "heron/files/input_budget.hpp"
#include "log.hpp"
#include "manual.hpp"
#include "progress.hpp"
#include "usage.hpp"

namespace {

/// Help and version are wishes fulfilled (0); everything else that cannot be parsed is wrong use (2).
int parse_failed(const CLI::App& app, const CLI::ParseError& error) {
  if (dynamic_cast<const CLI::CallForHelp*>(&error)) {
    try {
      heron::tool::fit_help(app);
    } catch (const heron::Error& wrong) {
      heron::tool::log_error("{}", wrong.what());
      return 2;
    }
  }
  const int code = app.exit(error);
  return code == 0 ? 0 : 2;
}

/// As it was called: "teach", "demo cart".
std::string command_of(const CLI::App& app) {
  std::string command;
  for (const CLI::App* at = &app; !at->get_subcommands().empty();) {
    at = at->get_subcommands().front();
    command += (command.empty() ? "" : " ") + at->get_name();
  }
  return command;
}

/// --quiet and --verbose may stand behind the command as well.
void put_in_front(std::vector<char*>& words) {
  if (words.empty()) return;
  const auto end = std::find_if(words.begin() + 1, words.end(),
                                [](const char* word) { return std::strcmp(word, "--") == 0; });
  std::stable_partition(words.begin() + 1, end, [](const char* word) {
    return std::strcmp(word, "--quiet") == 0 || std::strcmp(word, "--verbose") == 0;
  });
}

}  // namespace

// Setting up the commands throws only for want of memory.
int main(int argc, char** argv) {  // NOLINT(bugprone-exception-escape)
  heron::keep_freed_memory();
  std::signal(SIGPIPE, SIG_IGN);
  std::signal(SIGXFSZ, SIG_IGN);  // a file that may not grow is an error with words
  CLI::App app{
      "Able Heron: calibrates a camera, finds taught parts in its pictures and sends their positions to a "
      "robot.\nThe commands are listed in the order of the work. `heron COMMAND --help` shows the options "
      "and an "
      "example."};
  app.name("heron");
  app.formatter(std::make_shared<heron::tool::HelpFormatter>());
  app.set_version_flag("--version", "heron 0.1.0");
  app.require_subcommand(1);
  std::optional<int64_t> memory_mb;
  app.add_option("--memory", memory_mb, "memory limit for reading one input file, MB; default 1024");
  bool quiet = false, verbose = false;
  app.add_flag("--quiet", quiet, "shows errors alone");
  app.add_flag("--verbose", verbose, "shows details too, with times");
  heron::tool::Action action;
  heron::tool::add_cameras(app, action);
  heron::tool::add_record(app, action);
  heron::tool::add_light(app, action);
  heron::tool::add_level(app, action);
  heron::tool::add_board(app, action);
  heron::tool::add_calibrate(app, action);
  heron::tool::add_rings(app, action);
  heron::tool::add_map(app, action);
  heron::tool::add_teach(app, action);
  heron::tool::add_find(app, action);
  heron::tool::add_study(app, action);
  heron::tool::add_gauge(app, action);
  heron::tool::add_track(app, action);
  heron::tool::add_run(app, action);
  heron::tool::add_replay(app, action);
  heron::tool::add_verify(app, action);
  heron::tool::add_simulate(app, action);
  heron::tool::add_demo(app, action);
  heron::tool::add_manual(app, action);
  heron::tool::keep_options_apart(app);
  heron::tool::set_log(heron::tool::LogLevel::note, false);
  app.failure_message(heron::tool::wrong_use);
  try {
    std::vector<char*> words(argv, argv + argc);
    put_in_front(words);
    app.parse(argc, words.data());
  } catch (const CLI::ParseError& error) {
    return parse_failed(app, error);
  }
  try {
    constexpr int64_t max_mb = int64_t{1} << 40;  // of what is shifted
    if (memory_mb)
      heron::set_input_budget(static_cast<size_t>(std::clamp<int64_t>(*memory_mb, 0, max_mb)) << 20);
    if (quiet && verbose) heron::fail_argument("--quiet and --verbose exclude each other");
    const std::string command = command_of(app);
    using heron::tool::LogLevel;
    heron::tool::set_log(quiet     ? LogLevel::error
                         : verbose ? LogLevel::detail
                                   : LogLevel::note,
                         verbose || heron::tool::runs_for_long(command));
    std::optional<heron::tool::WorkedSeconds> seconds;
    if (!quiet && heron::tool::works_in_silence(command)) seconds.emplace();
    const int status = action();
    seconds.reset();
    if (std::fflush(stdout) != 0 || std::ferror(stdout)) {
      heron::tool::log_error("standard output could not be written: {}", std::strerror(errno));
      return 2;
    }
    return status;
  } catch (const heron::Error& error) {
    heron::tool::log_error("{}", error.what());
  } catch (const std::bad_alloc&) {
    heron::tool::log_error("not enough memory for this");
  } catch (const std::exception& error) {
    heron::tool::log_error("{}", error.what());
  }
  return 2;
}
