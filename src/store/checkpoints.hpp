#pragma once
#include <condition_variable>
#include <mutex>
#include <string>
#include <thread>

namespace heron {

/// Brings what was written into the database itself, from a thread of its own: this takes tens of
/// milliseconds now and then, for which no result waits.
class Checkpoints {
 public:
  explicit Checkpoints(const std::string& path);
  /// Soon; returns at once.
  void begin_one();

 private:
  void work(const std::stop_token& over);
  std::string path_;
  std::mutex mutex_;
  std::condition_variable_any changed_;
  bool wanted_ = false;
  std::jthread thread_;  // the last member: it ends before the others go
};

}  // namespace heron
