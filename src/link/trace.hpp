#pragma once
#include <functional>
#include <optional>
#include <string>

#include "heron/files/line_log.hpp"

namespace heron {

/// Keeps every line of a link with its time, to look for faults. Without a path it does nothing; a file that
/// can no longer be written ends the trace with one call of `warn`.
class Trace {
 public:
  /// Throws Error{not_writable}.
  Trace(const std::string& path, std::function<void(const std::string&)> warn);
  void said(const std::string& lines);
  void heard(const std::string& line);
  void noted(const std::string& what);

 private:
  void add(char mark, const std::string& text);
  std::string path_;
  std::function<void(const std::string&)> warn_;
  std::optional<LineLog> log_;
};

}  // namespace heron
