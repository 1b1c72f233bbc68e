#pragma once
#include <chrono>
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

/// How far work of known size is, on a terminal: a bar, the count, and after two seconds how long the rest
/// will take. Nothing is shown where standard error is no terminal.
class Progress {
 public:
  /// `what` is counted, in the plural: "pictures".
  Progress(size_t all, std::string what);
  ~Progress();
  Progress(const Progress&) = delete;
  Progress& operator=(const Progress&) = delete;
  void step();  ///< one more is done

 private:
  size_t all_, done_ = 0;
  std::string what_;
  bool shown_;
  std::chrono::steady_clock::time_point begun_;
};
/// The line that it shows; `seconds` since it began.
std::string progress_line(size_t done, size_t all, const std::string& what, double seconds);

/// Whether a command works in silence until it has an answer; the others tell as they go.
bool works_in_silence(const std::string& command);
/// Whether a command runs until it is ended, so that its messages need a time.
bool runs_for_long(const std::string& command);

}  // namespace heron::tool
