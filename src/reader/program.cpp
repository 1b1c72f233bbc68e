#include <fcntl.h>
#include <fmt/format.h>
#include <poll.h>
#include <signal.h>
#include <spawn.h>
#include <sys/socket.h>
#include <sys/wait.h>
#include <unistd.h>

#include <cstring>
#include <thread>
#include <vector>

#include "heron/base/error.hpp"
#include "heron/base/work.hpp"
#include "heron/files/picture_file.hpp"
#include "heron/image/picture.hpp"
#include "heron/reader/reader.hpp"

namespace heron {
namespace {

constexpr size_t most_bytes = 65536;

/// A descriptor that closes itself.
class Descriptor {
 public:
  explicit Descriptor(int fd = -1) : fd_(fd) {}
  ~Descriptor() { close(); }
  Descriptor(const Descriptor&) = delete;
  Descriptor& operator=(const Descriptor&) = delete;
  int get() const { return fd_; }
  void close() {
    if (fd_ >= 0) ::close(fd_);
    fd_ = -1;
  }

 private:
  int fd_;
};

[[noreturn]] void fail(const char* what) {
  throw Error(ErrorCode::not_determined,
              fmt::format("a reader cannot be started: {}: {}", what, std::strerror(errno)));
}

/// A running program in a process group of its own; one end of a socket pair is its standard input and
/// output.
class Program {
 public:
  Program(const std::string& command, const std::vector<std::string>& environment) {
    int ends[2];
    if (::socketpair(AF_UNIX, SOCK_STREAM | SOCK_CLOEXEC, 0, ends) != 0) fail("socketpair");
    Descriptor theirs(ends[1]);
    ours_ = ends[0];
    posix_spawn_file_actions_t actions;
    posix_spawn_file_actions_init(&actions);
    posix_spawn_file_actions_adddup2(&actions, ends[1], STDIN_FILENO);
    posix_spawn_file_actions_adddup2(&actions, ends[1], STDOUT_FILENO);
    posix_spawn_file_actions_addopen(&actions, STDERR_FILENO, "/dev/null", O_WRONLY, 0);
    posix_spawnattr_t attributes;
    posix_spawnattr_init(&attributes);
    posix_spawnattr_setflags(&attributes, POSIX_SPAWN_SETPGROUP);
    posix_spawnattr_setpgroup(&attributes, 0);
    std::vector<char*> variables;
    for (char** v = environ; *v; ++v) variables.push_back(*v);
    for (const std::string& v : environment) variables.push_back(const_cast<char*>(v.c_str()));
    variables.push_back(nullptr);
    std::string shell = "/bin/sh", option = "-c", line = command;
    char* arguments[] = {shell.data(), option.data(), line.data(), nullptr};
    const int failed = ::posix_spawn(&child_, "/bin/sh", &actions, &attributes, arguments, variables.data());
    posix_spawn_file_actions_destroy(&actions);
    posix_spawnattr_destroy(&attributes);
    if (failed) {
      ::close(ours_);
      errno = failed;
      fail("/bin/sh");
    }
  }
  /// Ends the program, if it still runs, and all that it started.
  ~Program() {
    ::close(ours_);
    if (!status_) {
      ::kill(-child_, SIGKILL);
      ::waitpid(child_, nullptr, 0);
    }
  }
  Program(const Program&) = delete;
  Program& operator=(const Program&) = delete;

  int socket() const { return ours_; }
  void end_input() { ::shutdown(ours_, SHUT_WR); }
  /// Its status once it has ended; what it left running is then ended too.
  std::optional<int> status() {
    int status = 0;
    const pid_t ended = status_ ? 0 : ::waitpid(child_, &status, WNOHANG);
    if (ended < 0) status_ = 0;  // the host program ignores its children; what was answered counts
    if (ended == child_) {
      status_ = WIFEXITED(status) ? WEXITSTATUS(status) : 128 + WTERMSIG(status);
      ::kill(-child_, SIGKILL);
    }
    return status_;
  }

 private:
  pid_t child_ = -1;
  int ours_ = -1;
  std::optional<int> status_;
};

}  // namespace

ReaderAnswer read_by_program(const std::string& command, const ImageView<const uint8_t>& picture,
                             const Reading& about, const std::string& picture_name,
                             std::chrono::milliseconds timeout, Work* stop) {
  using Clock = std::chrono::steady_clock;
  Picture sent;
  sent.pixels = Image<uint8_t>(picture);
  const std::string png = png_of(sent);
  Program program(command, {"HERON_PICTURE=" + picture_name, "HERON_GAUGE=" + about.gauge,
                            "HERON_PART=" + (about.part ? std::to_string(*about.part + 1) : std::string())});
  const auto deadline = Clock::now() + timeout;
  size_t written = 0;
  std::string answer;
  for (bool open = true; open || !program.status();) {
    const auto left = std::chrono::duration_cast<std::chrono::milliseconds>(deadline - Clock::now()).count();
    if (left <= 0 || (stop && stop->stopped())) return {.state = ReaderAnswer::State::late};
    if (!open) {  // it has closed its output and works on
      std::this_thread::sleep_for(std::chrono::milliseconds(1));
      continue;
    }
    const bool ended = program.status().has_value();
    pollfd waits{program.socket(), static_cast<short>(POLLIN | (written < png.size() ? POLLOUT : 0)), 0};
    const int ready = ::poll(&waits, 1, ended ? 0 : static_cast<int>(std::min<long>(left, 20)));
    if (waits.revents & POLLOUT) {
      const ssize_t count =
          ::send(program.socket(), png.data() + written, png.size() - written, MSG_NOSIGNAL | MSG_DONTWAIT);
      if (count > 0) written += static_cast<size_t>(count);
      // A reader that looks at nothing closes its input: what it answers counts all the same.
      if (count < 0 && errno != EAGAIN && errno != EINTR) written = png.size();
      if (written == png.size()) program.end_input();
    }
    ssize_t count = -1;
    if (waits.revents & (POLLIN | POLLHUP | POLLERR)) {
      char bytes[4096];
      count = ::recv(program.socket(), bytes, sizeof bytes, MSG_DONTWAIT);
      if (count > 0) answer.append(bytes, static_cast<size_t>(count));
      if (count == 0 || (count < 0 && errno != EAGAIN && errno != EINTR)) open = false;
      if (answer.size() > most_bytes)
        return {.state = ReaderAnswer::State::unreadable,
                .why = fmt::format("it answers more than {} bytes", most_bytes)};
    }
    if (ended && (ready <= 0 || count <= 0)) open = false;  // all that it wrote was read
  }
  const int status = *program.status();
  if (status != 0)
    return {.state = ReaderAnswer::State::unreadable, .why = fmt::format("it ends with status {}", status)};
  return parse_answer(answer);
}

}  // namespace heron
