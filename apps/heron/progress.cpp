#include "progress.hpp"

#include <fmt/format.h>
#include <unistd.h>

#include <algorithm>
#include <array>
#include <chrono>
#include <string>

namespace heron::tool {

WorkedSeconds::WorkedSeconds() {
  if (isatty(STDERR_FILENO)) teller_ = std::thread([this] { tell(); });
}

WorkedSeconds::~WorkedSeconds() {
  if (!teller_.joinable()) return;
  {
    const std::lock_guard lock(mutex_);
    has_ended_ = true;
  }
  ended_.notify_one();
  teller_.join();
}

void WorkedSeconds::tell() {
  std::unique_lock lock(mutex_);
  for (int seconds = 1;; ++seconds) {
    if (ended_.wait_for(lock, std::chrono::seconds(1), [this] { return has_ended_; })) break;
    fmt::print(stderr, "  {} s\r", seconds);
    std::fflush(stderr);
  }
}

bool works_in_silence(const std::string& command) {
  constexpr std::array silent{"light",        "level",          "board",          "calibrate",
                              "rings",        "teach",          "demo cart",      "simulate tray",
                              "simulate arm", "simulate stack", "simulate studio"};
  return std::find(silent.begin(), silent.end(), command) != silent.end();
}

}  // namespace heron::tool
