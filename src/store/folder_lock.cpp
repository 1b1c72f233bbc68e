#include "folder_lock.hpp"

#include <fcntl.h>
#include <fmt/format.h>
#include <sys/file.h>
#include <unistd.h>

#include <cerrno>
#include <chrono>
#include <cstring>
#include <thread>

#include "heron/base/error.hpp"

namespace heron {

FolderLock::FolderLock(const std::string& folder) {
  const std::string path = folder + "/lock";
  fd_ = open(path.c_str(), O_CREAT | O_RDWR | O_CLOEXEC | O_NOFOLLOW, 0644);
  if (fd_ < 0) throw Error(ErrorCode::not_writable, fmt::format("{}: {}", path, std::strerror(errno)));
  // One that was just killed may still be on its way out.
  for (int i = 0; i < 20; ++i) {
    if (flock(fd_, LOCK_EX | LOCK_NB) == 0) return;
    std::this_thread::sleep_for(std::chrono::milliseconds(100));
  }
  close(fd_);
  throw Error(
      ErrorCode::not_writable,
      fmt::format("store {}: another station is running with it; give each station a folder of its own",
                  folder));
}

FolderLock::~FolderLock() { close(fd_); }

}  // namespace heron
