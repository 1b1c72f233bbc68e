#pragma once
#include <string>
#include <string_view>

namespace heron {

/// A file of lines that only grows: what stood there stays, each line is handed to the system as a whole, and
/// none is written again. Memory and cost do not grow with the file.
class LineLog {
 public:
  /// Throws Error{not_writable} where the file cannot be opened.
  explicit LineLog(const std::string& path);
  ~LineLog();
  LineLog(const LineLog&) = delete;
  LineLog& operator=(const LineLog&) = delete;

  /// Appends `line` and a line end. Returns the system's reason where that failed, a full disk say; the log
  /// then ends with its last whole line, and later lines are left out without a further word.
  std::string append(std::string_view line);

 private:
  int fd_ = -1;
};

}  // namespace heron
