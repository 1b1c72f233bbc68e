#include "heron/files/atomic_file.hpp"

#include <fcntl.h>
#include <fmt/format.h>
#include <sys/file.h>
#include <sys/random.h>
#include <sys/stat.h>
#include <unistd.h>

#include <cerrno>
#include <cstring>
#include <filesystem>
#include <utility>

#include "heron/base/error.hpp"

namespace heron {
namespace {

namespace fs = std::filesystem;

[[noreturn]] void refuse(ErrorCode code, const std::string& path, const char* what, int number) {
  throw Error(code, ErrorPlace{path}, fmt::format("{}: {}", what, std::strerror(number)));
}

/// A file descriptor that closes itself.
class Descriptor {
 public:
  explicit Descriptor(int fd) : fd_(fd) {}
  ~Descriptor() {
    if (fd_ >= 0) ::close(fd_);
  }
  Descriptor(Descriptor&& other) noexcept : fd_(std::exchange(other.fd_, -1)) {}
  Descriptor& operator=(Descriptor&& other) noexcept {
    std::swap(fd_, other.fd_);
    return *this;
  }
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

/// What a chain of links leads to, so that the links stay and their target is replaced, or made.
std::string behind_links(std::string path) {
  constexpr int max_links = 16;
  std::error_code none;
  if (const fs::path whole = fs::canonical(path, none); !none) return whole.string();
  for (int i = 0; i < max_links && fs::is_symlink(path, none); ++i) {
    const fs::path target = fs::read_symlink(path, none);
    if (none) break;
    path = target.is_absolute() ? target.string() : (fs::path(path).parent_path() / target).string();
  }
  return path;
}

/// A new file that nothing stood in for and no link leads away; empty where the name is taken.
Descriptor new_file(const std::string& name) {
  return Descriptor(::open(name.c_str(), O_WRONLY | O_CREAT | O_EXCL | O_NOFOLLOW | O_CLOEXEC, 0666));
}

/// Whether a file was left behind by a writer that is gone: one that writes holds a lock on it.
bool is_left_behind(const std::string& name) {
  const Descriptor file(::open(name.c_str(), O_RDONLY | O_NOFOLLOW | O_NONBLOCK | O_CLOEXEC));
  struct stat about {};
  return file.get() >= 0 && ::fstat(file.get(), &about) == 0 && S_ISREG(about.st_mode) &&
         about.st_uid == ::geteuid() && about.st_nlink == 1 && ::flock(file.get(), LOCK_EX | LOCK_NB) == 0;
}

/// The file beside `path` that takes its place: one of a name that a later writer knows to remove, or, where
/// another one writes at the same time, of a random name.
std::pair<std::string, Descriptor> file_beside(const std::string& path) {
  const auto is_taken = [](const Descriptor& made) {
    return made.get() < 0 && (errno == EEXIST || errno == ELOOP);
  };
  std::string name = path + ".part";
  Descriptor file = new_file(name);
  bool taken = is_taken(file);
  if (taken && is_left_behind(name)) {
    ::unlink(name.c_str());
    file = new_file(name), taken = is_taken(file);
  }
  for (int attempt = 0; taken && attempt < 8; ++attempt) {
    uint64_t random = 0;
    if (::getrandom(&random, sizeof random, 0) != sizeof random) break;
    name = fmt::format("{}.part-{:016x}", path, random);
    file = new_file(name), taken = is_taken(file);
  }
  return {name, std::move(file)};
}

void sync_folder_of(const std::string& path) {
  const std::string parent = fs::path(path).parent_path().string();
  const Descriptor folder(::open(parent.empty() ? "." : parent.c_str(), O_RDONLY | O_DIRECTORY | O_CLOEXEC));
  if (folder.get() >= 0) ::fsync(folder.get());
}

/// Devices, pipes and sockets are written into; nothing takes their place.
void write_into(const std::string& path, std::string_view content) {
  const Descriptor file(::open(path.c_str(), O_WRONLY | O_NONBLOCK | O_NOCTTY | O_CLOEXEC));
  if (file.get() < 0) refuse(ErrorCode::not_writable, path, "is no file, and cannot be written into", errno);
  const int flags = ::fcntl(file.get(), F_GETFL);
  ::fcntl(file.get(), F_SETFL, flags & ~O_NONBLOCK);
  if (!write_all(file.get(), content))
    refuse(ErrorCode::not_writable, path, "could not be written into", errno);
}

}  // namespace

void write_file(const std::string& given, std::string_view content) {
  struct stat old {};
  const bool there = ::stat(given.c_str(), &old) == 0;
  if (there && S_ISDIR(old.st_mode))
    throw Error(ErrorCode::not_writable, ErrorPlace{given}, "is a folder; give the name of a file in it");
  if (there && !S_ISREG(old.st_mode)) return write_into(given, content);
  const std::string path = behind_links(given);
  const auto [beside, file] = file_beside(path);
  if (file.get() < 0) refuse(ErrorCode::not_writable, given, "cannot be written", errno);
  ::flock(file.get(), LOCK_EX | LOCK_NB);
  // Whose it is stays as it was where that may be, and who may read it.
  if (there && ::fchown(file.get(), old.st_uid, old.st_gid) != 0) errno = 0;
  const bool written = (!there || ::fchmod(file.get(), old.st_mode & 07777) == 0) &&
                       write_all(file.get(), content) && ::fsync(file.get()) == 0 &&
                       ::rename(beside.c_str(), path.c_str()) == 0;
  if (!written) {
    const int number = errno;
    ::unlink(beside.c_str());
    refuse(ErrorCode::not_writable, given, "could not be written; what stood there before is unchanged",
           number);
  }
  sync_folder_of(path);
}

std::string read_file(const std::string& path, size_t max_bytes) {
  const Descriptor file(::open(path.c_str(), O_RDONLY | O_NONBLOCK | O_CLOEXEC));
  if (file.get() < 0) refuse(ErrorCode::bad_file, path, "cannot be opened", errno);
  struct stat about {};
  if (::fstat(file.get(), &about) != 0 || !S_ISREG(about.st_mode)) fail_file({path}, "is not a file");
  if (static_cast<size_t>(about.st_size) > max_bytes)
    fail_file({path}, fmt::format("has {} bytes; at most {} are read", about.st_size, max_bytes));
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
