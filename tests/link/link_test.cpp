#include <doctest/doctest.h>

#include <cmath>
#include <functional>
#include <thread>

#include "heron/base/error.hpp"
#include "heron/link/station_link.hpp"
#include "heron/render/random.hpp"
#include "support.hpp"

using namespace heron;
using namespace heron::text_protocol;
using namespace std::chrono_literals;

namespace {

LinkSettings quick(const Address& address, LinkMode mode = LinkMode::push) {
  LinkSettings settings;
  settings.address = address, settings.mode = mode;
  settings.patience = 1500ms, settings.acknowledge = 300ms, settings.finish = 1500ms;
  return settings;
}

LinkSettings listening(LinkMode mode = LinkMode::push) {
  LinkSettings settings = quick({"127.0.0.1", 0}, mode);
  settings.listens = true;
  // A port that is free now, so that robots can be started before the station.
  settings.address = LineListener({"127.0.0.1", 0}).address();
  return settings;
}

/// Reads lines until one starts with `kind`; empty when none comes.
std::string line_of(LineSocket& socket, const std::string& kind) {
  std::string line;
  while (socket.read(line, 2000ms) == LineSocket::Wait::line)
    if (line.starts_with(kind)) return line;
  return "";
}

/// A robot's connection whose greeting is answered.
std::optional<LineSocket> greeted(LineListener& robot, const std::string& answer = "ROBOT 2 MODE push",
                                  LineSocket::Duration wait = 2000ms) {
  auto socket = robot.accept(wait);
  if (socket && !line_of(*socket, "HERON").empty()) socket->write(answer);
  return socket;
}

LineSocket called(const Address& station, const std::string& answer = "ROBOT 2 MODE push") {
  for (int i = 0; i < 40; ++i) try {
      LineSocket socket = LineSocket::connect(station, 1000ms);
      line_of(socket, "HERON");
      socket.write(answer);
      return socket;
    } catch (const Error&) {
      std::this_thread::sleep_for(50ms);
    }
  throw Error(ErrorCode::no_connection, "the station does not listen");
}

Part part(uint64_t number, int index, const std::string& name, double x, double y, double angle,
          double score) {
  Part p{number, index, name};
  p[Field::x] = x, p[Field::y] = y, p[Field::angle] = angle, p[Field::score] = score;
  return p;
}

const std::vector<Part> two_parts{part(7, 1, "leaf", 1.25, -2.5, 30, 99.5),
                                  part(7, 2, "leaf", 3, 4, -170, 88)};

}  // namespace

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
                                         Refusal{"why not"}};
  for (const StationLine& line : station) {
    const auto parsed = parse_station_line(encode(line));
    REQUIRE_MESSAGE(parsed.line, parsed.error);
    CHECK(encode(*parsed.line) == encode(line));
  }
  const std::vector<RobotLine> robot{
      Robot{}, Robot{2, LinkMode::ask, "s3cret"}, Ack{18446744073709551615ULL}, Ack{3, 2}, Done{3},
      Next{},  Next{Pose2{100.5, -20.25, 90_deg}}};
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
    socket->write("ROBOT 2 MODE push");
    result = line_of(*socket, "RESULT");
    CHECK(line_of(*socket, "PART 7 1") == "PART 7 1 leaf 1.2500 -2.5000 30.0000 99.50");
    CHECK(line_of(*socket, "END") == "END 7");
    socket->write("ACK 6");  // stale: a repeat of an earlier one
    socket->write("what?");
    CHECK(line_of(*socket, "ERROR").starts_with("ERROR a line starts with"));
    socket->write("ACK 8");  // ahead of what was sent
    CHECK(line_of(*socket, "ERROR") == "ERROR result 7 wants ACK 7");
    socket->write("NEXT");
    CHECK(line_of(*socket, "ERROR") == "ERROR this station pushes its results; it is not asked");
    socket->write("ACK 7\r");
    socket->write("DONE 7");
    line_of(*socket, "END-OF-RESULTS");
  });
  StationLink link(quick(robot.address()));
  const Delivery delivery = link.deliver(7, two_parts, 12);
  CHECK(delivery.acknowledged);
  CHECK(delivery.tries == 1);
  CHECK(link.wait_done(7));
  link.farewell(7);
  peer.join();
  CHECK(hello.starts_with("HERON 2 SESSION "));
  CHECK(result.starts_with("RESULT 7 COUNT 2 AGE 1"));
  CHECK(link.counts().refused_lines == 3);
  CHECK(link.counts().repeats == 0);
}

TEST_CASE("a connection cut in the middle: the result comes again and says so") {
  LineListener robot({"127.0.0.1", 0});
  std::string again, first_session, second_session;
  std::thread peer([&] {
    {
      auto socket = robot.accept(2000ms);
      first_session = line_of(*socket, "HERON");
      socket->write("ROBOT 2 MODE push");
      line_of(*socket, "PART");
    }  // gone before the acknowledgement
    auto socket = robot.accept(2000ms);
    second_session = line_of(*socket, "HERON");
    socket->write("ROBOT 2 MODE push");
    again = line_of(*socket, "RESULT");
    line_of(*socket, "END");
    socket->write("ACK 7");
    line_of(*socket, "END-OF-RESULTS");
  });
  StationLink link(quick(robot.address()));
  CHECK(link.deliver(7, two_parts, 0).acknowledged);
  link.farewell(7);
  peer.join();
  CHECK(again.ends_with("AGAIN"));
  CHECK(first_session == second_session);  // numbers go on
  CHECK(link.counts().repeats == 1);
}

TEST_CASE(
    "a robot that listens but never acknowledges is given up after three tries, and the result is named") {
  LineListener robot({"127.0.0.1", 0});
  std::atomic<bool> done{false};
  int seen = 0;
  std::thread peer([&] {
    while (!done)
      if (auto socket = greeted(robot, "ROBOT 2 MODE push", 100ms)) {
        std::string line;
        while (socket->read(line, 2000ms) == LineSocket::Wait::line) seen += line.starts_with("RESULT");
      }
  });
  StationLink link(quick(robot.address()));
  const Delivery delivery = link.deliver(7, two_parts, 0);
  CHECK_FALSE(delivery.acknowledged);
  CHECK(delivery.why.find("result 7 was sent 3 times") != std::string::npos);
  { const StationLink gone = std::move(link); }
  done = true;
  peer.join();
  CHECK(seen == 3);
}

TEST_CASE("a peer that talks something else is cut off, and an endless line as well") {
  for (const bool endless : {false, true}) {
    LineListener robot({"127.0.0.1", 0});
    std::thread peer([&] {
      auto socket = greeted(robot);
      if (endless)
        socket->write(std::string(5000, 'x'));
      else
        for (int i = 0; i < 80; ++i) socket->write("GET / HTTP/1.1");
      std::string line;
      while (socket->read(line, 1000ms) == LineSocket::Wait::line) {
      }
      CHECK_FALSE(socket->is_open());
    });
    LinkSettings settings = quick(robot.address());
    settings.patience = 300ms;
    StationLink link(settings);
    CHECK_FALSE(link.wait_done(1));
    { const StationLink gone = std::move(link); }
    peer.join();
  }
}

TEST_CASE("a robot that sends a word too many with each result goes on for as long as it likes") {
  LineListener robot({"127.0.0.1", 0});
  constexpr uint64_t results = 70;  // more than the refused lines that one connection may hold
  std::thread peer([&] {
    while (auto socket = greeted(robot, "ROBOT 2 MODE push", 500ms))
      for (std::string end; !(end = line_of(*socket, "END")).empty();) {
        socket->write("thanks");
        socket->write("ACK " + end.substr(4));
      }
  });
  StationLink link(quick(robot.address()));
  uint64_t acknowledged = 0;
  for (uint64_t n = 1; n <= results; ++n) acknowledged += link.deliver(n, {}, 0).acknowledged;
  { const StationLink gone = std::move(link); }
  peer.join();
  CHECK(acknowledged == results);
}

TEST_CASE(
    "a station beats once a second with the newest number, while it waits and while its caller is busy") {
  LineListener robot({"127.0.0.1", 0});
  std::vector<std::string> beats;
  std::vector<std::chrono::steady_clock::time_point> times;
  std::thread peer([&] {
    auto socket = greeted(robot);
    line_of(*socket, "END");
    socket->write("ACK 9");
    for (int i = 0; i < 3; ++i)
      beats.push_back(line_of(*socket, "HEARTBEAT")), times.push_back(std::chrono::steady_clock::now());
    socket->write("DONE 9");
    std::string line;
    socket->read(line, 500ms);
  });
  LinkSettings settings = quick(robot.address());
  settings.finish = 5000ms;
  StationLink link(settings);
  CHECK(link.deliver(9, {}, 0).acknowledged);
  std::this_thread::sleep_for(2500ms);  // a camera that is slow
  CHECK(link.wait_done(9));
  peer.join();
  for (const std::string& beat : beats) CHECK(beat == "HEARTBEAT 9");
  for (size_t i = 1; i < times.size(); ++i) CHECK(times[i] - times[i - 1] < 2s);
}

TEST_CASE("scanners, health checks and idle peers are no robots, and do not end a listening station") {
  const LinkSettings settings = listening();
  std::thread peers([&] {
    // They come first, open and close, talk nonsense, or stay and say nothing.
    LineSocket idle = called(settings.address, "");
    idle.close();
    for (int i = 0; i < 5; ++i) called(settings.address, "").close();
    const LineSocket silent = [&] {
      for (;;) try {
          return LineSocket::connect(settings.address, 1000ms);
        } catch (const Error&) {
        }
    }();
    LineSocket browser = called(settings.address, "GET / HTTP/1.1");
    CHECK(line_of(browser, "ERROR").find("the greeting was answered wrongly") != std::string::npos);
    LineSocket robot = called(settings.address);
    for (uint64_t n = 1; n <= 3; ++n) {
      CHECK(line_of(robot, "END") == "END " + std::to_string(n));
      // More of them while it works.
      for (int i = 0; i < 3; ++i) called(settings.address, "").close();
      robot.write("ACK " + std::to_string(n));
    }
    line_of(robot, "END-OF-RESULTS");
  });
  StationLink link(settings);
  for (uint64_t n = 1; n <= 3; ++n) {
    const Delivery delivery = link.deliver(n, {}, 0);
    CHECK_MESSAGE(delivery.acknowledged, delivery.why);
    CHECK(delivery.tries == 1);
  }
  link.farewell(3);
  peers.join();
  CHECK(link.counts().connections == 1);
  CHECK(link.counts().turned_away >= 6);
}

TEST_CASE("a robot that comes anew takes the place of the one that is gone without a word") {
  const LinkSettings settings = listening();
  std::atomic<bool> done{false};
  std::thread peers([&] {
    const LineSocket dead = called(settings.address);  // its power was cut: it never says anything again
    std::this_thread::sleep_for(100ms);
    LineSocket robot = called(settings.address);
    CHECK(line_of(robot, "END") == "END 1");
    robot.write("ACK 1");
    while (!done) std::this_thread::sleep_for(10ms);
  });
  LinkSettings slow = settings;
  slow.acknowledge = 5000ms;
  StationLink link(slow);
  const auto begun = std::chrono::steady_clock::now();
  CHECK(link.deliver(1, {}, 0).acknowledged);
  CHECK(std::chrono::steady_clock::now() - begun < 2s);  // long before the old one was given up
  done = true;
  peers.join();
  CHECK(link.counts().connections == 2);
}

TEST_CASE("both sides are told within a second when their modes, tokens or versions differ") {
  struct Case {
    std::string answer, told;
  };
  for (const Case& c : {Case{"ROBOT 2 MODE ask", "the robot's mode is ask and the station's is push"},
                        Case{"ROBOT 2 MODE push", "the station wants a token"},
                        Case{"ROBOT 2 MODE push TOKEN wrong", "the token is wrong"},
                        Case{"ROBOT 1 MODE push", "protocol version 1; this side speaks 2"},
                        Case{"ACK 1", "answered first"}}) {
    LinkSettings settings = listening();
    settings.token = "open-sesame", settings.patience = 700ms;
    std::string told;
    std::chrono::steady_clock::duration took{};
    std::thread peer([&] {
      LineSocket socket = called(settings.address, c.answer);
      const auto begun = std::chrono::steady_clock::now();
      told = line_of(socket, "ERROR");
      took = std::chrono::steady_clock::now() - begun;
    });
    std::string why;
    try {
      const StationLink link(settings);
    } catch (const Error& error) {
      why = error.what();
    }
    peer.join();
    CHECK_MESSAGE(told.find(c.told) != std::string::npos, told);
    CHECK_MESSAGE(why.find(c.told) != std::string::npos, why);
    CHECK(took < 1500ms);
  }
  LinkSettings settings = listening();
  settings.token = "open-sesame";
  std::thread peer([&] {
    LineSocket socket = called(settings.address, "ROBOT 2 MODE push TOKEN open-sesame");
    line_of(socket, "END");
    socket.write("ACK 1");
    line_of(socket, "nothing more");
  });
  StationLink link(settings);
  CHECK(link.deliver(1, {}, 0).acknowledged);
  { const StationLink gone = std::move(link); }
  peer.join();
}

TEST_CASE("asked: the same part again until it is acknowledged by number and index, and none is lost") {
  LineListener robot({"127.0.0.1", 0});
  std::vector<std::string> heard;
  std::thread peer([&] {
    auto socket = greeted(robot, "ROBOT 2 MODE ask");
    const auto say = [&](const char* line) {
      socket->write(line);
      std::string answer;
      do socket->read(answer, 2000ms);
      while (answer.starts_with("HEARTBEAT"));
      heard.push_back(answer);
    };
    say("NEXT");     // part 1
    say("NEXT");     // not acknowledged: part 1 again
    say("ACK 7");    // half an acknowledgement
    say("ACK 7 2");  // ahead of what was given
    say("ACK 8 1");  // of a result that is not there
    say("ACK 07 1");
    socket->write("ACK 7 1");
    socket->write("ACK 7 1");  // a repeated one loses nothing
    say("NEXT");               // part 2
    socket.reset();            // the connection is lost before the acknowledgement
    socket = greeted(robot, "ROBOT 2 MODE ask");
    say("NEXT");  // part 2 again
    socket->write("ACK 7 2");
    say("NEXT");  // NONE
    say("NEXT");  // NONE again
    socket->write("ACK 7");
    line_of(*socket, "END-OF-RESULTS");
  });
  StationLink link(quick(robot.address(), LinkMode::ask));
  CHECK(link.wait_next(6));
  const Delivery delivery = link.answer(7, two_parts);
  CHECK_MESSAGE(delivery.acknowledged, delivery.why);
  link.farewell(7);
  peer.join();
  REQUIRE(heard.size() == 10);
  CHECK(heard[0].starts_with("PART 7 1 "));
  CHECK(heard[1] == heard[0]);
  CHECK(heard[2] == "ERROR wanted: ACK 7 1");
  CHECK(heard[3] == "ERROR wanted: ACK 7 1");
  CHECK(heard[4] == "ERROR wanted: ACK 7 1");
  CHECK(heard[5] == "ERROR wanted: ACK number [index]");
  CHECK(heard[6].starts_with("PART 7 2 "));
  CHECK(heard[7] == heard[6]);
  CHECK(heard[8] == "NONE 7");
  CHECK(heard[9] == "NONE 7");
}

TEST_CASE("DONE is waited for across a lost connection") {
  LineListener robot({"127.0.0.1", 0});
  std::thread peer([&] {
    auto socket = greeted(robot);
    line_of(*socket, "END");
    socket->write("ACK 7");
    socket.reset();  // the arm goes on moving
    std::this_thread::sleep_for(500ms);
    socket = greeted(robot);
    std::this_thread::sleep_for(200ms);
    socket->write("DONE 6");  // of an earlier one
    socket->write("DONE 7");
    line_of(*socket, "END-OF-RESULTS");
  });
  LinkSettings settings = quick(robot.address());
  settings.acknowledge = 2000ms;
  StationLink link(settings);
  CHECK(link.deliver(7, two_parts, 0).acknowledged);
  const auto begun = std::chrono::steady_clock::now();
  CHECK(link.wait_done(7));
  CHECK(std::chrono::steady_clock::now() - begun > 600ms);
  link.farewell(7);
  peer.join();
}

TEST_CASE("every wait of a link ends within half a second of a stop") {
  const auto stops = [](const char* what, const std::function<void(const Work&)>& wait, Work& stop) {
    std::chrono::steady_clock::time_point asked;
    std::thread side([&] {
      std::this_thread::sleep_for(200ms);
      asked = std::chrono::steady_clock::now();
      stop.stop();
    });
    wait(stop);
    const auto took = std::chrono::steady_clock::now() - asked;
    side.join();
    CHECK_MESSAGE(took < 900ms, what);  // half a second, and a busy machine
  };
  LinkSettings nobody = listening();
  nobody.patience = 60000ms;
  {
    Work stop;
    stops(
        "for a robot to come", [&](const Work& s) { const StationLink link(nobody, &s); }, stop);
  }
  {
    Work stop;
    LinkSettings far = nobody;
    far.listens = false;
    stops(
        "for a robot to listen", [&](const Work& s) { const StationLink link(far, &s); }, stop);
  }
  for (const LinkMode mode : {LinkMode::push, LinkMode::ask})
    for (const int wait : {0, 1}) {
      LineListener robot({"127.0.0.1", 0});
      std::string end;
      std::thread peer([&] {
        auto socket =
            greeted(robot, mode == LinkMode::push ? "ROBOT 2 MODE push" : "ROBOT 2 MODE ask", 5000ms);
        end = line_of(*socket, "END-OF-RESULTS");
      });
      LinkSettings settings = quick(robot.address(), mode);
      settings.acknowledge = settings.finish = 60000ms;
      Work stop;
      StationLink link(settings, &stop);
      stops(
          "at work",
          [&](const Work&) {
            if (mode == LinkMode::push && wait == 0) CHECK_FALSE(link.deliver(7, {}, 0).acknowledged);
            if (mode == LinkMode::push && wait == 1) CHECK_FALSE(link.wait_done(7));
            if (mode == LinkMode::ask && wait == 0) CHECK_FALSE(link.wait_next(7));
            if (mode == LinkMode::ask && wait == 1) CHECK_FALSE(link.answer(7, two_parts).acknowledged);
          },
          stop);
      link.farewell(7);
      peer.join();
      CHECK(end == "END-OF-RESULTS 7");  // it is told all the same
    }
}

TEST_CASE("a link works over IPv6, and a name that nobody knows is an error in time") {
  std::optional<LineListener> listener;
  try {
    listener.emplace(Address{"::1", 0});
  } catch (const Error&) {
    MESSAGE("this machine has no IPv6");
    return;
  }
  LineListener& robot = *listener;
  CHECK(robot.address().text().starts_with("[::1]:"));
  std::thread peer([&] {
    auto socket = greeted(robot);
    line_of(*socket, "END");
    socket->write("ACK 7");
    line_of(*socket, "nothing more");
  });
  StationLink link(quick(robot.address()));
  CHECK(link.deliver(7, two_parts, 0).acknowledged);
  { const StationLink gone = std::move(link); }
  peer.join();
  const auto begun = std::chrono::steady_clock::now();
  CHECK_THROWS_AS(LineSocket::connect({"no-such-robot.invalid", 5017}, 700ms), Error);
  CHECK(std::chrono::steady_clock::now() - begun < 2s);
}

TEST_CASE("a trace holds every line with its time, and no token") {
  const support::TemporaryFolder folder;
  LinkSettings settings = listening();
  settings.token = "open-sesame", settings.trace = folder / "trace.txt";
  std::thread peer([&] {
    LineSocket socket = called(settings.address, "ROBOT 2 MODE push TOKEN open-sesame");
    line_of(socket, "END");
    socket.write("ACK 7");
    line_of(socket, "END-OF-RESULTS");
  });
  StationLink link(settings);
  CHECK(link.deliver(7, two_parts, 0).acknowledged);
  link.farewell(7);
  peer.join();
  const std::string trace = support::read_text(folder / "trace.txt");
  for (const char* line :
       {"Z > HERON 2 SESSION ", "Z > RESULT 7 COUNT 2 AGE ", "Z > PART 7 2 leaf", "Z > END 7",
        "Z < ROBOT 2 MODE push TOKEN (kept secret)", "Z < ACK 7", "Z > END-OF-RESULTS 7"})
    CHECK_MESSAGE(support::contains(trace, line), trace);
  CHECK_FALSE(support::contains(trace, "sesame"));
}

TEST_CASE("a thousand cuts lose, repeat or delay nothing silently") {
  constexpr uint64_t last_result = 1000;
  LineListener robot({"127.0.0.1", 0});
  render::Random random(4);
  std::vector<uint64_t> acted, unmarked_repeats;
  int cuts = 0;
  std::thread peer([&] {
    uint64_t newest = 0;
    while (auto socket = greeted(robot, "ROBOT 2 MODE push", 1500ms)) {
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
  for (uint64_t n = 1; n <= last_result; ++n) {
    const Delivery d = link.deliver(n, {part(n, 1, "leaf", 0, 0, 0, 0)}, 0);
    (d.acknowledged ? delivered : told).push_back(n);  // three cuts in a row: said, not silent
  }
  { const StationLink gone = std::move(link); }
  peer.join();
  CHECK(cuts >= 1000);
  CHECK(delivered.size() + told.size() == last_result);
  for (size_t i = 1; i < acted.size(); ++i) CHECK(acted[i] > acted[i - 1]);  // each acted on once, in order
  for (const uint64_t n : delivered) CHECK(std::binary_search(acted.begin(), acted.end(), n));
  CHECK(unmarked_repeats.empty());
}
