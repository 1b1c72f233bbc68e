#pragma once
#include <stdexcept>
#include <string>
#include <utility>

namespace heron {

enum class ErrorCode {
  invalid_argument,  ///< a value that is not allowed, alone or beside the others
  bad_file,          ///< a file that is missing, broken, of another kind or version
  not_writable,      ///< a file that could not be written; what stood there before still stands
  no_connection,     ///< a peer that is not there, went away or speaks something else
  not_determined,    ///< the input is fine in form but does not fix what was asked for
};

/// Where in a file an error lies. A part that is not known is empty or 0.
struct ErrorPlace {
  std::string file = {};
  int line = 0, column = 0;  ///< from 1
  std::string key = {};      ///< of a table; a column's name of a list
};

/// A mistake of the caller, or of the world around the program. The message says what was given,
/// what is allowed and what to do next. What depends on the picture's content is never an Error.
class Error : public std::runtime_error {
 public:
  Error(ErrorCode code, const std::string& message) : Error(code, {}, message) {}
  Error(ErrorCode code, ErrorPlace place, const std::string& message)
      : std::runtime_error(text_of(place, message)),
        code_(code),
        place_(std::move(place)),
        message_(message) {}

  /// what() is made of these: "file:line:column: 'key' message".
  ErrorCode code() const { return code_; }
  const ErrorPlace& place() const { return place_; }
  const std::string& message() const { return message_; }

 private:
  static std::string text_of(const ErrorPlace& place, const std::string& message) {
    std::string text = place.file;
    if (place.line > 0) text += ':' + std::to_string(place.line);
    if (place.column > 0) text += ':' + std::to_string(place.column);
    if (!text.empty()) text += ": ";
    if (!place.key.empty()) text += '\'' + place.key + "' ";
    return text + message;
  }

  ErrorCode code_;
  ErrorPlace place_;
  std::string message_;
};

[[noreturn]] inline void fail_argument(const std::string& message) {
  throw Error(ErrorCode::invalid_argument, message);
}
[[noreturn]] inline void fail_file(ErrorPlace place, const std::string& message) {
  throw Error(ErrorCode::bad_file, std::move(place), message);
}

}  // namespace heron
