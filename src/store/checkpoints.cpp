#include "checkpoints.hpp"

#include <filesystem>

#include "database.hpp"
#include "heron/base/error.hpp"

namespace heron {
namespace {

constexpr uintmax_t long_log = 8 * 1000 * 1000, too_long_log = 4 * long_log;  // bytes

}  // namespace

Checkpoints::Checkpoints(const std::string& path)
    : path_(path), thread_([this](const std::stop_token& over) { work(over); }) {}

uintmax_t Checkpoints::log_bytes() const {
  std::error_code none;
  const uintmax_t bytes = std::filesystem::file_size(path_ + "-wal", none);
  return none ? 0 : bytes;
}

void Checkpoints::begin_one() {
  std::unique_lock lock(mutex_);
  wanted_ = true;
  changed_.notify_all();
  if (log_bytes() > too_long_log) changed_.wait(lock, [this] { return !wanted_ && !working_; });
}

void Checkpoints::work(const std::stop_token& over) {
  std::unique_lock lock(mutex_);
  while (changed_.wait(lock, over, [this] { return wanted_; })) {
    wanted_ = false, working_ = true;
    lock.unlock();
    try {
      Database database(path_);
      database.number("PRAGMA wal_checkpoint(PASSIVE)");
      // A station without a pause writes on meanwhile, and the log would grow for ever: now that little is
      // left, it waits for the rest.
      if (log_bytes() > long_log) database.number("PRAGMA wal_checkpoint(TRUNCATE)");
    } catch (const Error&) {
      // A full disk is said where a result is stored; the next time it may work.
    }
    lock.lock();
    working_ = false;
    changed_.notify_all();
  }
}

}  // namespace heron
