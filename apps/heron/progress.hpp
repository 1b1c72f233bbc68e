#pragma once
#include <condition_variable>
#include <mutex>
#include <string>
#include <thread>

namespace heron::tool {

/// While it lives, tells on a terminal how many seconds a command has worked, from the first on. The next
/// line that is printed takes its place.
class WorkedSeconds {
 public:
  WorkedSeconds();
  ~WorkedSeconds();
  WorkedSeconds(const WorkedSeconds&) = delete;
  WorkedSeconds& operator=(const WorkedSeconds&) = delete;

 private:
  void tell();

  std::mutex mutex_;
  std::condition_variable ended_;
  bool has_ended_ = false;
  std::thread teller_;  // last, so that it finds the others
};

/// Whether a command works in silence until it has an answer; the others tell as they go.
bool works_in_silence(const std::string& command);

}  // namespace heron::tool
