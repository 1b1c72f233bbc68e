#include "gnuplot.hpp"

#include <fcntl.h>
#include <fmt/format.h>
#include <signal.h>
#include <spawn.h>
#include <sys/wait.h>
#include <unistd.h>

#include <chrono>
#include <cstring>
#include <filesystem>
#include <thread>

#include "heron/base/error.hpp"
#include "heron/files/atomic_file.hpp"

namespace heron {
namespace {

namespace fs = std::filesystem;

/// A folder of our own that goes away with what is in it.
class ScratchFolder {
 public:
  ScratchFolder() {
    std::error_code ignored;
    std::string name = (fs::temp_directory_path(ignored) / "heron-plot-XXXXXX").string();
    if (!::mkdtemp(name.data()))
      throw Error(ErrorCode::not_writable, ErrorPlace{name},
                  fmt::format("a folder for gnuplot cannot be made: {}", std::strerror(errno)));
    path_ = name;
  }
  ~ScratchFolder() {
    std::error_code ignored;
    fs::remove_all(path_, ignored);
  }
  ScratchFolder(const ScratchFolder&) = delete;
  ScratchFolder& operator=(const ScratchFolder&) = delete;
  std::string file(const char* name) const { return path_ + "/" + name; }

 private:
  std::string path_;
};

/// Its status, or nothing when it had to be ended.
std::optional<int> status_within(pid_t child, std::chrono::seconds limit) {
  const auto deadline = std::chrono::steady_clock::now() + limit;
  int status = 0;
  while (::waitpid(child, &status, WNOHANG) == 0) {
    if (std::chrono::steady_clock::now() > deadline) {
      ::kill(child, SIGKILL);
      ::waitpid(child, &status, 0);
      return std::nullopt;
    }
    std::this_thread::sleep_for(std::chrono::milliseconds(5));
  }
  return WIFEXITED(status) ? WEXITSTATUS(status) : 128;
}

}  // namespace

std::string run_gnuplot(const std::string& script) {
  const ScratchFolder folder;
  const std::string plan = folder.file("plot.gp"), said = folder.file("said.txt"),
                    drawn = folder.file("drawn");
  std::string drawn_quoted = drawn;
  for (size_t at = 0; (at = drawn_quoted.find('\'', at)) != std::string::npos; at += 2)
    drawn_quoted.insert(at, 1, '\'');
  write_file(plan, fmt::format("output_file = '{}'\n{}", drawn_quoted, script));
  posix_spawn_file_actions_t actions;
  posix_spawn_file_actions_init(&actions);
  posix_spawn_file_actions_addopen(&actions, STDIN_FILENO, "/dev/null", O_RDONLY, 0);
  posix_spawn_file_actions_addopen(&actions, STDOUT_FILENO, said.c_str(), O_WRONLY | O_CREAT | O_APPEND,
                                   0600);
  posix_spawn_file_actions_addopen(&actions, STDERR_FILENO, said.c_str(), O_WRONLY | O_CREAT | O_APPEND,
                                   0600);
  std::string name = "gnuplot", settings = "--default-settings", file = plan;
  char* const arguments[] = {name.data(), settings.data(), file.data(), nullptr};
  pid_t child = 0;
  const int failed = ::posix_spawnp(&child, "gnuplot", &actions, nullptr, arguments, environ);
  posix_spawn_file_actions_destroy(&actions);
  if (failed)
    throw Error(ErrorCode::not_determined,
                fmt::format("plots are drawn by gnuplot, which cannot be started ({}); install gnuplot-nox",
                            std::strerror(failed)));
  const auto status = status_within(child, std::chrono::seconds(60));
  if (!status) throw Error(ErrorCode::not_determined, "gnuplot took more than a minute and was ended");
  if (*status != 0) {
    const std::string words = fs::exists(said) ? read_file(said, 1 << 20) : std::string();
    throw Error(ErrorCode::not_determined,
                fmt::format("gnuplot failed with status {}: {}", *status, words.substr(0, 300)));
  }
  return read_file(drawn, size_t{256} << 20);
}

}  // namespace heron
