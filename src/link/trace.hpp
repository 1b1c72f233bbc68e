#pragma once
#include <optional>
#include <string>

#include "heron/files/line_log.hpp"

namespace heron {

/// Every line of a link with its time, for whoever looks for a fault. Without a path it does nothing.
class Trace {
 public:
  /// Throws Error{not_writable}.
  explicit Trace(const std::string& path);
  void said(const std::string& lines);
  void heard(const std::string& line);
  void noted(const std::string& what);

 private:
  void add(char mark, const std::string& text);
  std::optional<LineLog> log_;
};

}  // namespace heron
