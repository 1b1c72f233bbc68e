#include "service.hpp"

#include <fmt/format.h>
#include <sys/socket.h>
#include <sys/un.h>
#include <unistd.h>

#include <algorithm>
#include <condition_variable>
#include <cstdlib>
#include <cstring>
#include <mutex>

namespace heron::tool {
namespace {

/// Connected to the manager; -1 where there is none.
int socket_to_manager() {
  const char* path = std::getenv("NOTIFY_SOCKET");
  sockaddr_un to{};
  if (!path || (path[0] != '/' && path[0] != '@') || std::strlen(path) >= sizeof to.sun_path) return -1;
  to.sun_family = AF_UNIX;
  std::strcpy(to.sun_path, path);
  if (path[0] == '@') to.sun_path[0] = '\0';  // a name that is no file
  const int fd = socket(AF_UNIX, SOCK_DGRAM | SOCK_CLOEXEC | SOCK_NONBLOCK, 0);
  const auto size = static_cast<socklen_t>(offsetof(sockaddr_un, sun_path) + std::strlen(path));
  if (fd < 0 || connect(fd, reinterpret_cast<const sockaddr*>(&to), size) == 0) return fd;
  close(fd);
  return -1;
}

/// Between two signs of life; 0 where nobody watches this process.
std::chrono::milliseconds watchdog_time() {
  const char* time = std::getenv("WATCHDOG_USEC");
  const char* process = std::getenv("WATCHDOG_PID");
  if (!time || (process && std::atol(process) != getpid())) return {};
  return std::chrono::milliseconds(std::clamp(std::atoll(time) / 1000, 0LL, 86400000LL));
}

}  // namespace

Service::Service() : socket_(socket_to_manager()) {}

Service::~Service() {
  thread_ = {};  // first, so that no sign of life follows the last word
  say("STOPPING=1");
  if (socket_ >= 0) close(socket_);
}

void Service::say(const std::string& lines) const {
  if (socket_ >= 0) static_cast<void>(send(socket_, lines.data(), lines.size(), MSG_NOSIGNAL));
}

void Service::ready() { say("READY=1"); }

void Service::status(const std::string& text) { say("STATUS=" + text); }

void Service::watch(std::function<std::chrono::milliseconds()> busy_for) {
  const auto time = watchdog_time();
  if (socket_ < 0 || time.count() == 0) return;
  thread_ = std::jthread([this, time, busy_for = std::move(busy_for)](const std::stop_token& over) {
    std::mutex mutex;
    std::condition_variable_any ended;
    std::unique_lock lock(mutex);
    while (!over.stop_requested()) {
      if (busy_for() < time) say("WATCHDOG=1");
      ended.wait_for(lock, over, time / 3, [] { return false; });
    }
  });
}

}  // namespace heron::tool
