#pragma once
#include <fmt/format.h>

#include <string>

namespace heron::tool {

/// Messages on standard error, one a line. Errors are always shown, details only with --verbose.
enum class LogLevel { error, note, detail };

/// What --quiet and --verbose ask for, and whether lines begin with the time, as those of commands that run
/// for long do.
void set_log(LogLevel most, bool with_time);
/// Safe from any thread.
void log_line(LogLevel level, const std::string& line);

template <class... Given>
void log_error(fmt::format_string<Given...> text, Given&&... given) {
  log_line(LogLevel::error, fmt::format(text, std::forward<Given>(given)...));
}
template <class... Given>
void log_note(fmt::format_string<Given...> text, Given&&... given) {
  log_line(LogLevel::note, fmt::format(text, std::forward<Given>(given)...));
}
template <class... Given>
void log_detail(fmt::format_string<Given...> text, Given&&... given) {
  log_line(LogLevel::detail, fmt::format(text, std::forward<Given>(given)...));
}

}  // namespace heron::tool
