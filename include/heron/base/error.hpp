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

/// A mistake of the caller, or of the world around the program. The message says what was given,
/// what is allowed and what to do next. What depends on the picture's content is never an Error.
class Error : public std::runtime_error {
 public:
  Error(ErrorCode code, const std::string& message) : std::runtime_error(message), code_(code) {}
  ErrorCode code() const { return code_; }

 private:
  ErrorCode code_;
};

[[noreturn]] inline void fail_argument(const std::string& message) {
  throw Error(ErrorCode::invalid_argument, message);
}
[[noreturn]] inline void fail_file(const std::string& message) { throw Error(ErrorCode::bad_file, message); }

}  // namespace heron
