#include <doctest/doctest.h>

#include <cmath>

#include "heron/base/error.hpp"
#include "heron/link/register_map.hpp"

using namespace heron;

namespace {

std::string map_error(const std::vector<MappedField>& fields, int max_parts = 8) {
  try {
    RegisterMap{fields, max_parts}.require_valid();
  } catch (const Error& error) {
    return error.what();
  }
  return "valid";
}

bool says(const std::string& text, const char* part) { return text.find(part) != std::string::npos; }

std::vector<uint16_t> words_of(double x, MappedField field) {
  Report report;
  ReportedPart part;
  part.robot = RobotPose{x, 0, 0, {}, {}};
  report.parts.push_back(part);
  field.at = 10, field.of = "x", field.part = 1;
  const std::vector<RegisterValue> values = registers_of(RegisterMap{{field}, 1}, sent_of(report, 0));
  REQUIRE(values.size() == 1);
  if (!values[0].valid) return {};
  return values[0].words;
}

}  // namespace

TEST_CASE("numbers stand in registers as their type says, to the last one that fits") {
  using enum RegisterType;
  using Words = std::vector<uint16_t>;
  CHECK(words_of(-1, {.type = int16}) == Words{0xffff});
  CHECK(words_of(32767.4, {.type = int16}) == Words{0x7fff});
  CHECK(words_of(32767.5, {.type = int16}).empty());
  CHECK(words_of(-32768, {.type = int16}) == Words{0x8000});
  CHECK(words_of(-0.6, {.type = uint16}).empty());
  CHECK(words_of(65535, {.type = uint16}) == Words{0xffff});
  CHECK(words_of(1e6, {.type = int32}) == Words{0x000f, 0x4240});
  CHECK(words_of(1e6, {.type = int32, .order = WordOrder::low_first}) == Words{0x4240, 0x000f});
  CHECK(words_of(-1, {.type = int32}) == Words{0xffff, 0xffff});
  CHECK(words_of(2147483648.0, {.type = int32}).empty());
  CHECK(words_of(4294967295.0, {.type = uint32}) == Words{0xffff, 0xffff});
  CHECK(words_of(1.5, {.type = float32}) == Words{0x3fc0, 0x0000});
  CHECK(words_of(1e300, {.type = float32}).empty());
  CHECK(words_of(std::nan(""), {.type = int16}).empty());
  CHECK(words_of(100.26, {.zero = 100, .scale = -100}) == Words{0xffe6});
}

TEST_CASE("texts stand as the numbers that are given for them, and others are not valid") {
  Report report;
  ReportedPart part;
  part.detection.target = "kite", part.robot = RobotPose{};
  report.parts.push_back(part);
  RegisterMap map{{{.at = 10, .of = "name", .part = 1, .words = {{"leaf", 1}, {"kite", 2}}}}, 1};
  map.require_valid();
  CHECK(registers_of(map, sent_of(report, 0))[0].words == std::vector<uint16_t>{2});
  report.parts[0].detection.target = "moon";
  const RegisterValue moon = registers_of(map, sent_of(report, 0))[0];
  CHECK_FALSE(moon.valid);
  CHECK(moon.words == std::vector<uint16_t>{0});
}

TEST_CASE("a map that cannot be meant is refused with the register that is wrong") {
  CHECK(map_error({{.at = 10, .of = "count"}, {.at = 11, .of = "x", .part = 1}}) == "valid");
  CHECK(says(map_error({}), "no register is mapped"));
  CHECK(says(map_error({{.at = 9, .of = "count"}}), "they go from 10 to 65535"));
  CHECK(
      says(map_error({{.at = 65535, .of = "count", .type = RegisterType::int32}}), "reaches register 65536"));
  CHECK(says(map_error({{.at = 10, .of = "count", .type = RegisterType::int32}, {.at = 11, .of = "number"}}),
             "'number' and 'count' share register 11"));
  CHECK(says(
      map_error({{.at = 10, .of = "x", .part = 1, .every = 2}, {.at = 13, .of = "y", .part = 1, .every = 3}}),
      "share register"));
  CHECK(says(map_error({{.at = 10, .of = "x"}}), "a whole result has no field 'x'; it has number"));
  CHECK(says(map_error({{.at = 10, .of = "count", .part = 1}}), "a part has no field 'count'; it has index"));
  CHECK(says(map_error({{.at = 10, .of = "x", .part = 9}}), "part must be 1 to 8"));
  CHECK(says(map_error({{.at = 10, .of = "x", .part = 1, .every = 1, .type = RegisterType::float32}}),
             "at least 2"));
  CHECK(says(map_error({{.at = 10, .of = "x", .part = 1, .scale = 0}}), "scale not 0"));
  CHECK(says(map_error({{.at = 10, .of = "name", .part = 1}}), "give the numbers that stand for it"));
  CHECK(says(map_error({{.at = 10, .of = "count", .words = {{"leaf", 1}}}}), "words are for a text"));
  CHECK(says(map_error({{.at = 10, .of = "count"}}, 0), "max_parts"));
}
