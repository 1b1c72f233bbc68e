#pragma once
#include <chrono>
#include <functional>
#include <string>
#include <thread>

namespace heron::tool {

/// Reports to a service manager by systemd's notify protocol: lines in a datagram to NOTIFY_SOCKET. Does
/// nothing where there is no manager.
class Service {
 public:
  Service();
  ~Service();  ///< says that it is stopping
  Service(const Service&) = delete;
  Service& operator=(const Service&) = delete;

  void ready();
  void status(const std::string& text);
  /// Gives a sign of life three times in the watchdog's time, as long as what `busy_for` returns is below it.
  /// `busy_for` is called from another thread.
  void watch(std::function<std::chrono::milliseconds()> busy_for);

 private:
  void say(const std::string& lines) const;
  int socket_ = -1;
  std::jthread thread_;
};

}  // namespace heron::tool
