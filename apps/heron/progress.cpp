#include "progress.hpp"

#include <fmt/format.h>
#include <unistd.h>

#include <algorithm>
#include <array>
#include <atomic>
#include <chrono>
#include <string>

namespace heron::tool {
namespace {

std::atomic<bool> bar_is_shown = false;  // the seconds worked give way to it

}  // namespace

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
    if (bar_is_shown) continue;
    fmt::print(stderr, "  {} s\r", seconds);
    std::fflush(stderr);
  }
}

std::string progress_line(size_t done, size_t all, const std::string& what, double seconds) {
  constexpr size_t width = 30;
  const size_t bar = all ? width * done / all : width;
  std::string line = fmt::format("[{:<{}}] {} of {} {}", std::string(bar, '#'), width, done, all, what);
  if (done > 0 && done < all && seconds >= 2) {
    const double left = seconds / static_cast<double>(done) * static_cast<double>(all - done);
    line += left < 90 ? fmt::format(", about {:.0f} s left", left)
                      : fmt::format(", about {:.0f} min left", left / 60);
  }
  return line;
}

Progress::Progress(size_t all, std::string what)
    : all_(all),
      what_(std::move(what)),
      shown_(isatty(STDERR_FILENO) && all > 1),
      begun_(std::chrono::steady_clock::now()) {}

Progress::~Progress() {
  if (shown_ && done_ > 0) fmt::print(stderr, "\n");
  bar_is_shown = false;
}

void Progress::step() {
  ++done_;
  if (!shown_) return;
  bar_is_shown = true;
  const double seconds = std::chrono::duration<double>(std::chrono::steady_clock::now() - begun_).count();
  fmt::print(stderr, "\r{:<78}", progress_line(done_, all_, what_, seconds));
  std::fflush(stderr);
}

bool runs_for_long(const std::string& command) {
  return command == "run" || command == "record" || command == "track" || command == "simulate robot" ||
         command == "simulate cart";
}

bool works_in_silence(const std::string& command) {
  constexpr std::array silent{"light",        "level",          "board",           "calibrate",
                              "rings",        "teach",          "demo cart",       "simulate tray",
                              "simulate arm", "simulate stack", "simulate studio", "simulate bench"};
  return std::find(silent.begin(), silent.end(), command) != silent.end();
}

}  // namespace heron::tool
