#include "checkpoints.hpp"

#include "database.hpp"
#include "heron/base/error.hpp"

namespace heron {

Checkpoints::Checkpoints(const std::string& path)
    : path_(path), thread_([this](const std::stop_token& over) { work(over); }) {}

void Checkpoints::begin_one() {
  {
    const std::lock_guard lock(mutex_);
    wanted_ = true;
  }
  changed_.notify_all();
}

void Checkpoints::work(const std::stop_token& over) {
  for (;;) {
    {
      std::unique_lock lock(mutex_);
      if (!changed_.wait(lock, over, [this] { return wanted_; })) return;
      wanted_ = false;
    }
    try {
      Database database(path_);
      database.number("PRAGMA wal_checkpoint(PASSIVE)");
    } catch (const Error&) {
      // A full disk is said where a result is stored; the next time it may work.
    }
  }
}

}  // namespace heron
