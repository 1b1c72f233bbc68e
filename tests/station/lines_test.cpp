#include <doctest/doctest.h>

#include "patience.hpp"
#include "station_cell.hpp"

using namespace station_cell;

namespace {

/// A station whose link is `lines`, listening on a port that the system chooses.
StationFile with_lines(const std::string& lines) {
  std::string text = cell().text(cell().fixed(), "listen = \"127.0.0.1:0\"\n" + lines);
  text.replace(text.find("protocol = \"text\""), 17, "protocol = \"lines\"");
  return cell().station(text);
}

const std::string pushed =
    "mode = \"push\"\nline = \"{number};{count};{parts}\"\npart = \"{X},{y},{angle}\"\n"
    "separator = \";\"\n[[link.field]]\nname = \"X\"\nof = \"x\"\nscale = 1000\n"
    "decimals = 0\n";

std::vector<std::string> fields_of(const std::string& line) {
  std::vector<std::string> fields;
  std::stringstream stream(line);
  for (std::string field; std::getline(stream, field, ';');) fields.push_back(field);
  return fields;
}

}  // namespace

TEST_CASE("a station tells its parts in the receiver's own lines") {
  Station station(with_lines(pushed));
  station.open_link();
  LineSocket receiver = LineSocket::connect(station.link_address(), patience);
  for (int number = 1; number <= 2; ++number) {
    const auto report = station.step();
    REQUIRE(report);
    std::string line;
    REQUIRE(receiver.read(line, patience) == LineSocket::Wait::line);
    const std::vector<std::string> fields = fields_of(line);
    REQUIRE(fields.size() == 7);  // five leaves
    CHECK(fields[0] == std::to_string(number));
    CHECK(fields[1] == "5");
    for (size_t i = 0; i < 5; ++i) {
      const RobotPose& robot = *report->parts[i].robot;
      double x = 0, y = 0, angle = 0;
      REQUIRE(std::sscanf(fields[2 + i].c_str(), "%lf,%lf,%lf", &x, &y, &angle) == 3);
      CHECK(std::abs(x - 1000 * robot.x_mm) <= 0.5);  // micrometres
      CHECK(std::abs(y - robot.y_mm) <= 0.0005);
      CHECK(std::abs(angle - robot.angle.degrees()) <= 0.0005);
    }
  }
  CHECK_FALSE(station.step());
}

TEST_CASE("a station that is asked by the receiver's own line goes on when the one that asked is gone") {
  Station station(
      with_lines("mode = \"ask\"\nask = \"TRIG\"\nacknowledge = \"GOT\"\nline = \"{count}\"\n"
                 "line_end = \"\\r\\n\"\ntimeout_s = 5\nacknowledge_s = 2\n"));
  station.open_link();
  { LineSocket::connect(station.link_address(), patience).write("TRIG"); }
  REQUIRE(station.step());
  LineSocket robot = LineSocket::connect(station.link_address(), patience);
  robot.write("TRIG");
  std::jthread side([&] {
    std::string line;
    CHECK(robot.read(line, patience) == LineSocket::Wait::line);
    CHECK(line == "5");
    robot.write("GOT");
  });
  const auto report = station.next();
  REQUIRE(report);
  CHECK(report->number == 2);
  CHECK(station.deliver(*report).acknowledged);
}

TEST_CASE("a dry run says byte by byte what would be sent, and sends nothing") {
  const auto text_of = [](StationFile file) {
    Station station(std::move(file));
    station.begin_dry_run();
    const auto report = station.next();
    REQUIRE(report);
    CHECK_THROWS_AS((void)station.deliver(*report), Error);
    return station.sent_text(*report);
  };
  const std::string lines = text_of(with_lines(pushed));
  CHECK(lines.starts_with("1;5;"));
  CHECK(std::count(lines.begin(), lines.end(), '\n') == 1);
  const std::string result =
      text_of(cell().station(cell().text(cell().fixed(), "connect = \"127.0.0.1:1\"\nmode = \"push\"")));
  CHECK(result.starts_with("RESULT 1 COUNT 5 AGE "));
  CHECK(result.ends_with("\nEND 1\n"));
  CHECK(std::count(result.begin(), result.end(), '\n') == 7);
  const std::string answers =
      text_of(cell().station(cell().text(cell().fixed(), "connect = \"127.0.0.1:1\"\nmode = \"ask\"")));
  CHECK(answers.starts_with("PART 1 1 leaf "));
  CHECK(answers.ends_with("\nNONE 1\n"));
}

TEST_CASE("a reading of a gauge that there is not is refused before anything is connected") {
  const StationFile file = with_lines("mode = \"push\"\nline = \"{parts}\"\npart = \"{reading.slot}\"\n");
  CHECK(support::contains(support::error_of([&] { const Station station(file); }),
                          "the station has no gauges"));
}

TEST_CASE("mistakes in a receiver's own lines are named where they stand") {
  const auto refusal = [](const std::string& lines) { return support::error_of([&] { with_lines(lines); }); };
  CHECK(support::contains(refusal("mode = \"push\"\nline = \"{speed}\"\n"),
                          "has no field 'speed'; it has number"));
  CHECK(support::contains(refusal("mode = \"push\"\n"), "line"));
  CHECK(support::contains(refusal("mode = \"ask\"\nline = \"{count}\"\n"), "say with ask which line asks"));
  CHECK(support::contains(refusal("mode = \"push\"\nask = \"T\"\nline = \"{count}\"\n"), "for mode \"ask\""));
  CHECK(support::contains(refusal("mode = \"push\"\ntoken = \"T\"\nline = \"{count}\"\n"),
                          "protocol \"text\""));
  CHECK(support::contains(
      refusal("mode = \"push\"\nline = \"{count}\"\n[[link.field]]\nname = \"X\"\nof = \"x\"\nfactor = 2\n"),
      "factor"));
  std::string arm = cell().text("mount = \"arm\"\nflange_from_board = [0, 0, 0]",
                                "listen = \"127.0.0.1:0\"\nmode = \"ask\"\nask = \"T\"\nline = \"{count}\"");
  arm.replace(arm.find("protocol = \"text\""), 17, "protocol = \"lines\"");
  CHECK(
      support::contains(support::error_of([&] { cell().station(arm); }), "camera on the arm needs \"text\""));
}

TEST_CASE("a station's registers are read from its file, and a dry run prints them") {
  const auto with_registers = [](const std::string& registers) {
    std::string text = cell().text(cell().fixed(), "listen = \"127.0.0.1:0\"\nmode = \"push\"\n" + registers);
    text.replace(text.find("protocol = \"text\""), 17, "protocol = \"modbus\"");
    return cell().station(text);
  };
  Station station(
      with_registers("max_parts = 6\n[[link.register]]\nat = 10\nof = \"count\"\n[[link.register]]\nat = "
                     "20\nof = \"x\"\npart = 1\n"
                     "every = 4\ntype = \"int32\"\nscale = 1000\n[[link.register]]\nat = 22\nof = "
                     "\"name\"\npart = 1\nevery = 4\n"
                     "words = { leaf = 7 }\n"));
  CHECK_THROWS_WITH_AS(with_registers("timeout_s = 3\n[[link.register]]\nat = 10\nof = \"count\"\n"),
                       doctest::Contains("'timeout_s' is not for protocol"), Error);
  CHECK_THROWS_WITH_AS(station.open_link(), doctest::Contains("hand it over"), Error);
  station.begin_dry_run();
  const auto report = station.next();
  REQUIRE(report);
  const std::string text = station.sent_text(*report);
  CHECK(text.starts_with("   10 0005 valid count\n   20 "));
  CHECK(support::contains(text, "   22 0007 valid name of part 1\n"));
  CHECK(support::contains(text, "   40 0000 0000 not valid x of part 6\n"));
  const auto refusal = [&](const std::string& registers) {
    return support::error_of([&] { with_registers(registers); });
  };
  CHECK(support::contains(refusal(""), "register"));
  // The same in a controller to which the station connects: its own numbers, and the bits.
  std::string connects = cell().text(
      cell().fixed(),
      "connect = \"127.0.0.1:502\"\nmode = \"push\"\nstation_at = 1000\ncontroller_at = 900\nvalid_at = 12\n"
      "max_parts = 6\n[[link.register]]\nat = 10\nof = \"count\"\n[[link.register]]\nat = 20\nof = \"x\"\n"
      "part = 1\nevery = 4\n");
  connects.replace(connects.find("protocol = \"text\""), 17, "protocol = \"modbus\"");
  Station client(cell().station(connects));
  client.begin_dry_run();
  const auto told = client.next();
  CHECK(client.sent_text(*told).starts_with(
      " 1012 003f bits of what is valid\n 1010 0005 valid count\n 1020 "));
  connects.replace(connects.find("controller_at = 900"), 19, "controller_at = 1012");
  CHECK(support::contains(support::error_of([&] { cell().station(connects); }), "lie among the station's"));
  connects.replace(connects.find("controller_at = 1012"), 20, "");
  CHECK(support::contains(support::error_of([&] { cell().station(connects); }), "controller_at"));
  CHECK(
      support::contains(refusal("[[link.register]]\nat = 1\nof = \"count\"\n"), "they go from 10 to 65535"));
  CHECK(support::contains(refusal("[[link.register]]\nat = 10\nof = \"count\"\ntype = \"int8\"\n"), "int16"));
  CHECK(support::contains(refusal("token = \"T\"\n[[link.register]]\nat = 10\nof = \"count\"\n"),
                          "not for protocol"));
}

TEST_CASE(
    "what a receiver of own lines did not get before a restart: pushed it comes again, asked for it is given "
    "up") {
  support::TemporaryFolder folder;
  const auto stored = [&](StationFile file, LineSocket::Duration wait = patience) {
    file.store = StationStore{.results = {.folder = folder / "store"}};
    file.link.timeout = file.link.finish = wait;
    return file;
  };
  std::string first_line;
  {
    Station station(stored(with_lines(pushed), 300ms));
    station.open_link();
    const auto report = station.next();
    REQUIRE(report);
    first_line = station.sent_text(*report);
    CHECK_FALSE(station.deliver(*report).acknowledged);  // nobody is there
  }
  {
    Station station(stored(with_lines(pushed)));
    station.open_link();
    CHECK(station.taken_before() == 1);
    LineSocket receiver = LineSocket::connect(station.link_address(), patience);
    REQUIRE(station.step());
    CHECK(station.left_behind());
    std::string line;
    REQUIRE(receiver.read(line, patience) == LineSocket::Wait::line);
    CHECK(line + "\n" == first_line);
    const auto second = station.next();
    REQUIRE(second);
    CHECK_FALSE(station.left_behind());
    CHECK(second->number == 2);
  }
  // Result 2 was never sent. A receiver that asks wants a new picture, and there is none.
  Station station(stored(with_lines("mode = \"ask\"\nask = \"TRIG\"\nline = \"{number}\"\n")));
  station.open_link();
  std::jthread asks([address = station.link_address()] {
    LineSocket receiver = LineSocket::connect(address, patience);
    receiver.write("TRIG");
    std::string line;
    receiver.read(line, patience);
  });
  CHECK_FALSE(station.next());  // the recording has ended
  CHECK(station.given_up() == 1);
}
