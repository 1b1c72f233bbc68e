#include "heron/files/atomic_file.hpp"

#include <fcntl.h>
#include <fmt/format.h>
#include <sys/stat.h>
#include <unistd.h>

#include <cerrno>
#include <cstring>

#include "heron/base/error.hpp"

namespace heron {
namespace {

[[noreturn]] void refuse(ErrorCode code, const std::string& path, const char* what, int number) {
  throw Error(code, fmt::format("{}: {}: {}", path, what, std::strerror(number)));
}

/// A file descriptor that closes itself.
class Descriptor {
 public:
  explicit Descriptor(int fd) : fd_(fd) {}
  ~Descriptor() {
    if (fd_ >= 0) ::close(fd_);
  }
  Descriptor(const Descriptor&) = delete;
  Descriptor& operator=(const Descriptor&) = delete;
  int get() const { return fd_; }

 private:
  int fd_;
};

bool write_all(int fd, std::string_view content) {
  while (!content.empty()) {
    const ssize_t n = ::write(fd, content.data(), content.size());
    if (n < 0 && errno == EINTR) continue;
    if (n <= 0) return false;
    content.remove_prefix(static_cast<size_t>(n));
  }
  return true;
}

}  // namespace

void write_file(const std::string& path, std::string_view content) {
  const std::string beside = fmt::format("{}.part-{}", path, ::getpid());
  const Descriptor file(::open(beside.c_str(), O_WRONLY | O_CREAT | O_TRUNC | O_CLOEXEC, 0644));
  if (file.get() < 0) refuse(ErrorCode::not_writable, path, "cannot be written", errno);
  if (!write_all(file.get(), content) || ::fsync(file.get()) != 0 ||
      ::rename(beside.c_str(), path.c_str()) != 0) {
    const int number = errno;
    ::unlink(beside.c_str());
    refuse(ErrorCode::not_writable, path, "could not be written; what stood there before is unchanged",
           number);
  }
}

std::string read_file(const std::string& path, size_t most_bytes) {
  const Descriptor file(::open(path.c_str(), O_RDONLY | O_CLOEXEC));
  if (file.get() < 0) refuse(ErrorCode::bad_file, path, "cannot be opened", errno);
  struct stat about {};
  if (::fstat(file.get(), &about) != 0 || !S_ISREG(about.st_mode)) fail_file(path + ": is not a file");
  if (static_cast<size_t>(about.st_size) > most_bytes)
    fail_file(fmt::format("{}: has {} bytes; at most {} are read", path, about.st_size, most_bytes));
  std::string content(static_cast<size_t>(about.st_size), '\0');
  size_t filled = 0;
  while (filled < content.size()) {
    const ssize_t n = ::read(file.get(), content.data() + filled, content.size() - filled);
    if (n < 0 && errno == EINTR) continue;
    if (n < 0) refuse(ErrorCode::bad_file, path, "cannot be read", errno);
    if (n == 0) break;  // it shrank meanwhile
    filled += static_cast<size_t>(n);
  }
  content.resize(filled);
  return content;
}

}  // namespace heron
