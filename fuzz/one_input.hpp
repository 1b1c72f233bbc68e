#pragma once
#include <sys/mman.h>
#include <unistd.h>

#include <cstdint>
#include <cstdio>
#include <string>

#include "heron/base/error.hpp"

namespace fuzz {

/// Refusing is what a reader may do; anything else that it throws ends the program, and is a finding.
template <class Read>
void refuse_or_read(const Read& read) {
  try {
    read();
  } catch (const heron::Error&) {
  }
}

/// A file that holds the bytes, for readers that want a path. It lies in memory.
class File {
 public:
  File(const uint8_t* bytes, size_t count) : fd_(memfd_create("input", MFD_CLOEXEC)) {
    if (fd_ < 0 || write(fd_, bytes, count) != static_cast<ssize_t>(count)) std::perror("fuzz"), _exit(1);
  }
  ~File() { close(fd_); }
  File(const File&) = delete;
  File& operator=(const File&) = delete;
  std::string path() const { return "/proc/self/fd/" + std::to_string(fd_); }

 private:
  int fd_;
};

}  // namespace fuzz
