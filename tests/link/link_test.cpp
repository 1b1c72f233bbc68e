#include <doctest/doctest.h>

#include <thread>

#include "heron/base/error.hpp"
#include "heron/link/station_link.hpp"
#include "heron/render/random.hpp"

using namespace heron;
using namespace heron::text_protocol;
using namespace std::chrono_literals;

namespace {

LinkSettings quick(const Address& address) {
  return {.listens = false, .address = address, .patience = 1500ms, .acknowledge = 300ms, .finish = 1500ms};
}

/// Reads lines until one starts with `kind`; empty when none comes.
std::string line_of(LineSocket& socket, const std::string& kind) {
  std::string line;
  while (socket.read(line, 2000ms) == LineSocket::Wait::line)
    if (line.starts_with(kind)) return line;
  return "";
}

const std::vector<Part> two_parts{{7, 1, "leaf", 1.25, -2.5, 30, 99.5}, {7, 2, "leaf", 3, 4, -170, 88}};

}  // namespace

TEST_CASE("every line reads back to what was written") {
  const std::vector<StationLine> station{Hello{1, "0a1b2c3d"},
                                         Result{12, 3, 45, false},
                                         Result{12, 3, 45, true},
                                         Part{12, 1, "leaf", 1.5, -2.25, 179.9999, 87.25},
                                         End{12},
                                         None{12},
                                         Over{12},
                                         Beat{0},
                                         Sorry{"why not"}};
  for (const StationLine& line : station) {
    const auto parsed = parse_station_line(encode(line));
    REQUIRE_MESSAGE(parsed.line, parsed.error);
    CHECK(encode(*parsed.line) == encode(line));
  }
  const std::vector<RobotLine> robot{Ack{18446744073709551615ULL}, Done{3}, Next{},
                                     Next{Pose2{100.5, -20.25, 90_deg}}};
  for (const RobotLine& line : robot) {
    const auto parsed = parse_robot_line(encode(line));
    REQUIRE_MESSAGE(parsed.line, parsed.error);
    CHECK(encode(*parsed.line) == encode(line));
  }
  CHECK(encode(StationLine(Part{1, 1, "a b\n\xc3\xa4", 0, 0, 0, 0})) ==
        "PART 1 1 a_b___ 0.0000 0.0000 0.0000 0.00");
}

TEST_CASE("what is not in the grammar is refused with what was wanted") {
  for (const char* text : {"", " ", "ACK", "ACK ", "ACK x", "ACK -1", "ACK 1 2", "ACK  1", "ack 1", "NEXT AT",
                           "NEXT AT 1 2", "NEXT AT 1 2 nan", "NEXT AT 1 2 inf", "NEXT 1 2 3", "DONE 1.5",
                           "GET / HTTP/1.1", "ACK 99999999999999999999"})
    CHECK_MESSAGE(!parse_robot_line(text).line, text);
  for (const char* text : {"RESULT 1 COUNT -1 AGE 0", "RESULT 1 COUNT 1",
                           "RESULT 1 COUNT 1 AGE 0 AGAIN AGAIN", "PART 1 1 a/b 0 0 0 0", "PART 1 1 a 0 0 0",
                           "HERON 2 SESSION a UNITS MM DEG", "HERON 1 SESSION a UNITS INCH DEG", "BEAT"})
    CHECK_MESSAGE(!parse_station_line(text).line, text);
  CHECK(parse_robot_line("ACK x").error == "wanted: ACK number");
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
  for (const char* text : {"", ":", "host", "host:", ":80", "host:99999", "host:-1", "host:8x"})
    CHECK_THROWS_AS(Address::parse(text), Error);
}

TEST_CASE("nobody there: one clear error, in time") {
  const LineListener taken({"127.0.0.1", 0});
  CHECK_THROWS_WITH_AS(LineListener(taken.address()), doctest::Contains("cannot listen there"), Error);
  uint16_t free_port = 0;
  { free_port = LineListener({"127.0.0.1", 0}).address().port; }
  const auto begun = std::chrono::steady_clock::now();
  LinkSettings settings = quick({"127.0.0.1", free_port});
  settings.patience = 300ms;
  CHECK_THROWS_WITH_AS(StationLink{settings}, doctest::Contains("no robot at 127.0.0.1"), Error);
  CHECK(std::chrono::steady_clock::now() - begun < 2s);
}

TEST_CASE("a result is delivered once it is acknowledged") {
  LineListener robot({"127.0.0.1", 0});
  std::string hello, result;
  std::thread peer([&] {
    auto socket = robot.accept(2000ms);
    hello = line_of(*socket, "HERON");
    result = line_of(*socket, "RESULT");
    CHECK(line_of(*socket, "PART 7 1") == "PART 7 1 leaf 1.2500 -2.5000 30.0000 99.50");
    CHECK(line_of(*socket, "END") == "END 7");
    socket->write("ACK 6");  // stale: not what was sent
    socket->write("what?");
    CHECK(line_of(*socket, "SORRY").starts_with("SORRY a line starts with"));
    socket->write("ACK 7\r");
    socket->write("DONE 7");
    line_of(*socket, "OVER");
  });
  StationLink link(quick(robot.address()));
  link.deliver(7, two_parts, 12);
  CHECK(link.wait_done(7));
  link.farewell(7);
  peer.join();
  CHECK(hello.starts_with("HERON 1 SESSION "));
  CHECK(result.starts_with("RESULT 7 COUNT 2 AGE 1"));
  CHECK(link.refused_lines() == 1);
  CHECK(link.repeats() == 0);
}

TEST_CASE("a connection cut in the middle: the result comes again and says so") {
  LineListener robot({"127.0.0.1", 0});
  std::string again, first_session, second_session;
  std::thread peer([&] {
    {
      auto socket = robot.accept(2000ms);
      first_session = line_of(*socket, "HERON");
      line_of(*socket, "PART");
    }  // gone before the acknowledgement
    auto socket = robot.accept(2000ms);
    second_session = line_of(*socket, "HERON");
    again = line_of(*socket, "RESULT");
    line_of(*socket, "END");
    socket->write("ACK 7");
    line_of(*socket, "OVER");
  });
  StationLink link(quick(robot.address()));
  link.deliver(7, two_parts, 0);
  link.farewell(7);
  peer.join();
  CHECK(again.ends_with("AGAIN"));
  CHECK(first_session == second_session);  // numbers go on
  CHECK(link.repeats() == 1);
}

TEST_CASE("a robot that listens but never answers is given up after three tries, and the result is named") {
  LineListener robot({"127.0.0.1", 0});
  std::atomic<bool> done{false};
  int seen = 0;
  std::thread peer([&] {
    while (!done)
      if (auto socket = robot.accept(100ms)) {
        std::string line;
        while (socket->read(line, 2000ms) == LineSocket::Wait::line) seen += line.starts_with("RESULT");
      }
  });
  StationLink link(quick(robot.address()));
  CHECK_THROWS_WITH_AS(link.deliver(7, two_parts, 0), doctest::Contains("result 7 was sent 3 times"), Error);
  done = true;
  peer.join();
  CHECK(seen == 3);
}

TEST_CASE("a peer that talks something else is cut off, and an endless line as well") {
  for (const bool endless : {false, true}) {
    LineListener robot({"127.0.0.1", 0});
    std::thread peer([&] {
      auto socket = robot.accept(2000ms);
      if (endless)
        socket->write(std::string(5000, 'x'));
      else
        for (int i = 0; i < 80; ++i) socket->write("GET / HTTP/1.1");
      std::string line;
      while (socket->read(line, 1000ms) == LineSocket::Wait::line) {
      }
      CHECK_FALSE(socket->is_open());
    });
    StationLink link(quick(robot.address()));
    CHECK_FALSE(link.wait_done(1));
    { const StationLink gone = std::move(link); }
    peer.join();
  }
}

TEST_CASE("a waiting station beats once a second with the newest number") {
  LineListener robot({"127.0.0.1", 0});
  std::string beat;
  std::thread peer([&] {
    auto socket = robot.accept(2000ms);
    beat = line_of(*socket, "BEAT");
    socket->write("DONE 9");
    std::string line;
    socket->read(line, 500ms);
  });
  LinkSettings settings = quick(robot.address());
  settings.finish = 4000ms;
  StationLink link(settings);
  CHECK(link.wait_done(9));
  CHECK(beat == "BEAT 9");
  peer.join();
}

TEST_CASE("a thousand cuts lose, repeat or delay nothing silently") {
  constexpr uint64_t last_result = 1000;
  LineListener robot({"127.0.0.1", 0});
  render::Random random(4);
  std::vector<uint64_t> acted, unmarked_repeats;
  int cuts = 0;
  std::thread peer([&] {
    uint64_t newest = 0;
    while (auto socket = robot.accept(1500ms)) {
      for (;;) {
        const std::string head = line_of(*socket, "RESULT");
        if (head.empty()) break;  // the station is gone
        const Result result = std::get<Result>(*parse_station_line(head).line);
        const bool cut_early = random.whole(0, 2) == 0, cut_late = random.whole(0, 2) == 0;
        if (cut_early && ++cuts) break;  // before the end
        if (line_of(*socket, "END").empty()) break;
        if (result.number > newest)
          acted.push_back(newest = result.number);
        else if (!result.again)
          unmarked_repeats.push_back(result.number);
        if (cut_late && ++cuts) break;  // instead of the acknowledgement
        socket->write("ACK " + std::to_string(result.number));
      }
    }
  });
  StationLink link(quick(robot.address()));
  std::vector<uint64_t> delivered, told;
  for (uint64_t n = 1; n <= last_result; ++n) try {
      link.deliver(n, {{n, 1, "leaf", 0, 0, 0, 0}}, 0);
      delivered.push_back(n);
    } catch (const Error&) {
      told.push_back(n);  // three cuts in a row: said, not silent
    }
  { const StationLink gone = std::move(link); }
  peer.join();
  CHECK(cuts >= 1000);
  CHECK(delivered.size() + told.size() == last_result);
  for (size_t i = 1; i < acted.size(); ++i) CHECK(acted[i] > acted[i - 1]);  // each acted on once, in order
  for (const uint64_t n : delivered) CHECK(std::binary_search(acted.begin(), acted.end(), n));
  CHECK(unmarked_repeats.empty());
}
