#include "stopping.hpp"

#include <csignal>
#include <ctime>

namespace heron::tool {
namespace {

Work work;
volatile std::sig_atomic_t signal_seen = 0;
timespec first_at{};

void stop_on(int number) {
  timespec now{};
  clock_gettime(CLOCK_MONOTONIC, &now);
  if (signal_seen == 0) {
    signal_seen = number;
    first_at = now;
    work.stop();
  } else if (now.tv_sec > first_at.tv_sec + 1) {
    std::signal(number, SIG_DFL);
    std::raise(number);
  }
}

}  // namespace

Work& stop_on_signals() {
  struct sigaction action {};
  action.sa_handler = stop_on;  // without SA_RESTART, so that waits for a line of a person end as well
  sigemptyset(&action.sa_mask);
  sigaction(SIGINT, &action, nullptr);
  sigaction(SIGTERM, &action, nullptr);
  return work;
}

int status_after_stop(int otherwise, bool meant) {
  return signal_seen && !meant ? 128 + signal_seen : otherwise;
}

}  // namespace heron::tool
