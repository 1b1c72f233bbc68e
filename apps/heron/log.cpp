#include "log.hpp"

#include <spdlog/sinks/stdout_sinks.h>
#include <spdlog/spdlog.h>

namespace heron::tool {
namespace {

spdlog::logger& logger() {
  static spdlog::logger the("heron", std::make_shared<spdlog::sinks::stderr_sink_mt>());
  return the;
}

spdlog::level::level_enum level_of(LogLevel level) {
  return level == LogLevel::error  ? spdlog::level::err
         : level == LogLevel::note ? spdlog::level::info
                                   : spdlog::level::debug;
}

}  // namespace

void set_log(LogLevel most, bool with_time) {
  logger().set_level(level_of(most));
  logger().set_pattern(with_time ? "%Y-%m-%d %H:%M:%S.%e heron: %v" : "heron: %v");
}

/// What a peer or a file sent never moves the terminal's cursor or colors.
void log_line(LogLevel level, const std::string& line) {
  std::string shown = line;
  for (char& c : shown)
    if ((c >= 0 && c < ' ' && c != '\n' && c != '\t') || c == 0x7f) c = '?';
  logger().log(level_of(level), "{}", shown);
}

}  // namespace heron::tool
