#include <doctest/doctest.h>

#include <cmath>

#include "heron/render/random.hpp"
#include "link_peers.hpp"

using namespace link_peers;

TEST_CASE("every line reads back to what was written") {
  const std::vector<StationLine> station{Hello{2, "0a1b2c3d"},
                                         Hello{2, "s", LinkMode::ask, {Field::z, Field::x, Field::range_end}},
                                         Result{12, 3, 45, false},
                                         Result{12, 3, 45, true},
                                         part(12, 1, "leaf", 1.5, -2.25, 179.9999, 87.25),
                                         End{12},
                                         None{12},
                                         EndOfResults{12},
                                         Heartbeat{0},
                                         Hold{12},
                                         Refusal{"why not"}};
  for (const StationLine& line : station) {
    const auto parsed = parse_station_line(encode(line));
    REQUIRE_MESSAGE(parsed.line, parsed.error);
    CHECK(encode(*parsed.line) == encode(line));
  }
  const std::vector<RobotLine> robot{Robot{},
                                     Robot{2, LinkMode::ask, "s3cret"},
                                     Ack{18446744073709551615ULL},
                                     Ack{3, 2},
                                     Done{3},
                                     Next{},
                                     Next{RobotFromFlange{100.5, -20.25, WorldAngle{90_deg}}}};
  for (const RobotLine& line : robot) {
    const auto parsed = parse_robot_line(encode(line));
    REQUIRE_MESSAGE(parsed.line, parsed.error);
    CHECK(encode(*parsed.line) == encode(line));
  }
  CHECK(encode(StationLine(part(1, 1, "a b\n\xc3\xa4", 0, 0, 0, 0))) ==
        "PART 1 1 a_b___ 0.0000 0.0000 0.0000 0.00");
  CHECK(encode(StationLine(Hello{2, "7"})) ==
        "HERON 2 SESSION 7 MODE push UNITS MM DEG FIELDS x y angle score");
}

TEST_CASE("a part tells the fields that were agreed on, and - for what is not known") {
  const Fields fields{Field::z, Field::sigma_x, Field::angle, Field::ambiguous};
  Part p{4, 1, "disc"};
  p[Field::z] = 12.5, p[Field::sigma_x] = 0.00321, p[Field::ambiguous] = 1, p[Field::x] = 3;
  const std::string line = encode(StationLine(p), fields);
  CHECK(line == "PART 4 1 disc 12.5000 0.00321 - 1");
  const auto parsed = parse_station_line(line, fields);
  REQUIRE(parsed.line);
  const Part back = std::get<Part>(*parsed.line);
  CHECK(back[Field::z] == 12.5);
  CHECK_FALSE(back[Field::angle]);
  CHECK_FALSE(back[Field::x]);
  CHECK(std::get<Part>(*parse_station_line(line).line)[Field::x] == 12.5);  // other fields, another sense
  CHECK_FALSE(parse_station_line(line, {Field::z, Field::x}).line);
  CHECK(p.can_be_sent());
  p[Field::x] = 1e7;
  CHECK_FALSE(p.can_be_sent());
  p[Field::x] = std::nan("");
  CHECK_FALSE(p.can_be_sent());
}

TEST_CASE("what is not in the grammar is refused with what was wanted") {
  for (const char* text : {"",
                           " ",
                           "ACK",
                           "ACK ",
                           "ACK x",
                           "ACK -1",
                           "ACK 1 0",
                           "ACK  1",
                           "ack 1",
                           "ACK 01",
                           "ACK 1 ",
                           "ACK 1 02",
                           "ACK 1 2 3",
                           "DONE 007",
                           "NEXT ",
                           "NEXT AT",
                           "NEXT AT 1 2",
                           "NEXT AT 1 2 nan",
                           "NEXT AT 1 2 inf",
                           "NEXT AT 1e300 0 0",
                           "NEXT 1 2 3",
                           "DONE 1.5",
                           "GET / HTTP/1.1",
                           "ACK 99999999999999999999",
                           "ROBOT 1 MODE push",
                           "ROBOT 2 MODE pull",
                           "ROBOT 2 MODE ask TOKEN",
                           "ROBOT 2"})
    CHECK_MESSAGE(!parse_robot_line(text).line, text);
  for (const char* text :
       {"RESULT 1 COUNT -1 AGE 0", "RESULT 1 COUNT 1", "RESULT 1 COUNT 1 AGE 0 AGAIN AGAIN",
        "PART 1 1 a/b 0 0 0 0", "PART 1 1 a 0 0 0", "PART 1 1 a 1e300 0 0 0", "BEAT",
        "HERON 1 SESSION a MODE push UNITS MM DEG FIELDS x",
        "HERON 2 SESSION a MODE push UNITS INCH DEG FIELDS x",
        "HERON 2 SESSION a MODE push UNITS MM DEG FIELDS",
        "HERON 2 SESSION a MODE push UNITS MM DEG FIELDS x x",
        "HERON 2 SESSION a MODE push UNITS MM DEG FIELDS speed"})
    CHECK_MESSAGE(!parse_station_line(text).line, text);
  CHECK(parse_robot_line("ACK x").error == "wanted: ACK number [index]");
  CHECK(parse_robot_line("ROBOT 1 MODE push").error == "protocol version 1; this side speaks 2");
  CHECK_FALSE(parse_robot_line(std::string(600, 'A')).line);
  CHECK_FALSE(parse_robot_line("ACK\t1").line);
}

TEST_CASE("random bytes never break the parsers") {
  render::Random random(1);
  const std::string words[] = {"ACK", "NEXT", "AT", "DONE",  "RESULT", "COUNT", "AGE",  "PART",
                               " ",   "1",    "-",  "1e400", "nan",    "\xff",  "HERON"};
  for (int i = 0; i < 20000; ++i) {
    std::string text;
    for (int k = random.whole(0, 8); k > 0; --k)
      text += random.whole(0, 3) ? words[random.whole(0, 14)] + " "
                                 : std::string(1, static_cast<char>(random.whole(0, 255)));
    parse_robot_line(text);
    parse_station_line(text);
  }
}

TEST_CASE("an address is host:port") {
  CHECK(Address::parse("localhost:80").port == 80);
  CHECK(Address::parse("[::1]:80").host == "::1");
  CHECK(Address::parse("[::1]:80").text() == "[::1]:80");
  for (const char* text :
       {"", ":", "::1:80", "[::1]", "[]:80", "host", "host:", ":80", "host:99999", "host:-1", "host:8x"})
    CHECK_THROWS_AS(Address::parse(text), Error);
}
