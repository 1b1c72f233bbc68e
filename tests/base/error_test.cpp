#include "heron/base/error.hpp"

#include <doctest/doctest.h>

using namespace heron;

TEST_CASE("an error has its file, line, column, key and message apart, and its text is made from them") {
  const Error error(ErrorCode::bad_file, {"mapping.toml", 7, 3, "pitch_mm"}, "must be a number, not a text");
  CHECK(error.code() == ErrorCode::bad_file);
  CHECK(error.place().file == "mapping.toml");
  CHECK(error.place().line == 7);
  CHECK(error.place().column == 3);
  CHECK(error.place().key == "pitch_mm");
  CHECK(error.message() == "must be a number, not a text");
  CHECK(error.what() == std::string("mapping.toml:7:3: 'pitch_mm' must be a number, not a text"));
  CHECK(Error(ErrorCode::bad_file, {"a.csv", 2, 0, {}}, "is empty").what() ==
        std::string("a.csv:2: is empty"));
  CHECK(Error(ErrorCode::bad_file, {"a.png"}, "is empty").what() == std::string("a.png: is empty"));
  CHECK(Error(ErrorCode::invalid_argument, "count is 0").what() == std::string("count is 0"));
}
