#include "heron/files/line_log.hpp"

#include <fcntl.h>
#include <fmt/format.h>
#include <sys/stat.h>
#include <unistd.h>

#include <cerrno>
#include <cstring>

#include "heron/base/error.hpp"

namespace heron {

LineLog::LineLog(const std::string& path)
    : fd_(::open(path.c_str(), O_WRONLY | O_APPEND | O_CREAT | O_NOCTTY | O_CLOEXEC, 0666)) {
  if (fd_ < 0)
    throw Error(ErrorCode::not_writable, ErrorPlace{path},
                fmt::format("cannot be written: {}", std::strerror(errno)));
}

LineLog::~LineLog() {
  if (fd_ >= 0) ::close(fd_);
}

std::string LineLog::append(std::string_view line) {
  if (fd_ < 0) return {};
  std::string text(line);
  text += '\n';
  struct stat before {};
  const bool is_file = ::fstat(fd_, &before) == 0 && S_ISREG(before.st_mode);
  for (size_t done = 0; done < text.size();) {
    const ssize_t n = ::write(fd_, text.data() + done, text.size() - done);
    if (n < 0 && errno == EINTR) continue;
    if (n > 0) {
      done += static_cast<size_t>(n);
      continue;
    }
    const std::string why = std::strerror(errno);
    // Half a line is none.
    if (is_file && ::ftruncate(fd_, before.st_size) != 0) errno = 0;
    ::close(fd_);
    fd_ = -1;
    return why;
  }
  return {};
}

}  // namespace heron
