#include <doctest/doctest.h>

#include <limits>

#include "heron/base/error.hpp"
#include "heron/link/line_format.hpp"

using namespace heron;

namespace {

Report numbered_report(std::vector<std::array<double, 3>> places) {
  Report report;
  report.number = 3;
  for (const auto& [x, y, angle] : places) {
    ReportedPart part;
    part.detection = {.target = "leaf", .score = 97.26};
    part.robot = RobotPose{x, y, 0, WorldAngle{degrees(angle)}, {}};
    report.parts.push_back(part);
  }
  return report;
}

std::string written_line(const LineFormat& format, const Report& report) {
  return LineWriter(format).write(sent_of(report, 5));
}

std::string format_error(const LineFormat& format) {
  try {
    LineWriter writer(format);
  } catch (const Error& error) {
    return error.what();
  }
  return {};
}

}  // namespace

TEST_CASE("a receiver's line holds the fields that it asks for, as it asks for them") {
  const LineFormat format{.line = "{number};{count};{parts}", .part = "{x},{y},{angle}", .separator = "|"};
  CHECK(written_line(format, numbered_report({{1, -2, 90}})) == "3;1;1.000,-2.000,90.000");
  CHECK(written_line(format, numbered_report({{1, -2, 90}, {0.0004, -0.0004, 0}})) ==
        "3;2;1.000,-2.000,90.000|0.000,0.000,0.000");
  CHECK(written_line(format, numbered_report({})) == "3;0;");
}

TEST_CASE("a field's form moves its zero, turns its sign, scales, rounds and fills it") {
  LineFormat format{.line = "{parts}", .part = "{X} {y} {angle}"};
  format.forms = {{.name = "X", .of = "x", .zero = 100, .scale = -1000, .decimals = 0, .width = 8},
                  {.name = "y", .of = "y", .decimals = 1},
                  {.name = "angle", .of = "angle", .missing = "-"}};
  Report report = numbered_report({{100.0124, 7.25, 10}});
  CHECK(written_line(format, report) == "-0000012 7.2 10.000");
  report.parts[0].detection.has_angle = false;
  CHECK(written_line(format, report) == "-0000012 7.2 -");
  report.parts[0].robot->x_mm = std::numeric_limits<double>::infinity();
  CHECK(written_line(format, report) == " 7.2 -");
}

TEST_CASE("names become numbers by the receiver's words, and cannot break a line") {
  LineFormat format{.line = "{parts}", .part = "{kind}:{name}"};
  format.forms = {{.name = "kind", .of = "name", .words = {{"leaf", "4"}}}};
  Report report = numbered_report({{0, 0, 0}});
  CHECK(written_line(format, report) == "4:leaf");
  report.parts[0].detection.target = "a|b;c\r\n";
  CHECK(written_line(format, report) == "a_b_c__:a_b_c__");
}

TEST_CASE("no part has a line of its own where the receiver wants one, and further parts are left out") {
  const LineFormat format{.line = "[{count}] {parts}",
                          .part = "{index}",
                          .separator = " ",
                          .none = "NONE {{{number}}}",
                          .max_parts = 2};
  CHECK(written_line(format, numbered_report({})) == "NONE {3}");
  CHECK(written_line(format, numbered_report({{0, 0, 0}, {1, 1, 1}, {2, 2, 2}})) == "[2] 1 2");
}

TEST_CASE("a format that cannot be meant is refused with what may stand there") {
  CHECK(format_error({.line = ""}).find("line is empty") != std::string::npos);
  CHECK(format_error({.line = "{number"}).find("column 1: '{' is not closed") != std::string::npos);
  CHECK(format_error({.line = "a}"}).find("column 2: '}' without '{'") != std::string::npos);
  CHECK(format_error({.line = "{x}"}).find("a whole result has no field 'x'; it has number, count") !=
        std::string::npos);
  CHECK(format_error({.line = "{parts}", .part = "{count}"})
            .find("a part has no field 'count'; it has index") != std::string::npos);
  CHECK(format_error({.line = "{parts}"}).find("say with part") != std::string::npos);
  CHECK(format_error({.line = "{number}", .part = "{x}"}).find("{parts}") != std::string::npos);
  CHECK(format_error({.line = "{number}", .line_end = "\r"}).find("line_end") != std::string::npos);
  CHECK(format_error({.line = "{number}", .max_parts = 0}).find("max_parts") != std::string::npos);
  const auto with_form = [](FieldForm form) {
    return format_error({.line = "{parts}", .part = "{x} {X}", .forms = {std::move(form)}});
  };
  CHECK(with_form({.name = "name", .of = "name", .scale = 2}).find("'name' is a text") != std::string::npos);
  CHECK(with_form({.name = "name", .of = "name", .decimals = 1}).find("are for numbers") !=
        std::string::npos);
  CHECK(with_form({.name = "X", .of = "xx"}).find("there is no field 'xx'; a part has index, name") !=
        std::string::npos);
  CHECK(with_form({.name = "X", .of = "x", .scale = 0}).find("scale not 0") != std::string::npos);
  CHECK(with_form({.name = "X", .of = "x", .decimals = 10}).find("0 to 9") != std::string::npos);
  CHECK(with_form({.name = "X", .of = "x", .width = 33}).find("0 to 32") != std::string::npos);
  CHECK(with_form({.name = "parts", .of = "x"}).find("call it otherwise") != std::string::npos);
  CHECK(with_form({.name = "", .of = "x"}).find("needs a name") != std::string::npos);
  CHECK(format_error({.line = "{number}", .forms = {{.name = "X", .of = "x"}, {.name = "X", .of = "y"}}})
            .find("two fields are called 'X'") != std::string::npos);
  CHECK(format_error({.line = "{number}", .forms = {{.name = "X", .of = "x"}}}).find("stands in no line") !=
        std::string::npos);
  CHECK(with_form({.name = "X", .of = "x", .words = {{"leaf", "1"}}}).find("words are for a text") !=
        std::string::npos);
}
