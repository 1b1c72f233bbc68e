#pragma once
#include <condition_variable>
#include <cstdint>
#include <mutex>
#include <string>
#include <thread>

namespace heron {

/// Brings what was written into the database itself, from a thread of its own: this takes tens of
/// milliseconds now and then, for which no result waits.
class Checkpoints {
 public:
  explicit Checkpoints(const std::string& path);
  /// Soon; returns at once, unless the log grows faster than it is brought in: then it waits for it.
  void begin_one();

 private:
  void work(const std::stop_token& over);
  uintmax_t log_bytes() const;
  std::string path_;
  std::mutex mutex_;
  std::condition_variable_any changed_;
  bool wanted_ = false, working_ = false;
  std::jthread thread_;  // the last member: it ends before the others go
};

}  // namespace heron
