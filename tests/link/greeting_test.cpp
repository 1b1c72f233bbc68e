#include <doctest/doctest.h>

#include "link_peers.hpp"
#include "support.hpp"

using namespace link_peers;

TEST_CASE("nobody there: one clear error, in time") {
  const LineListener taken({"127.0.0.1", 0});
  CHECK_THROWS_WITH_AS(LineListener(taken.address()), doctest::Contains("cannot listen there"), Error);
  uint16_t free_port = 0;
  { free_port = LineListener({"127.0.0.1", 0}).address().port; }
  LinkSettings settings = patient({"127.0.0.1", free_port});
  settings.timeout = 300ms;
  CHECK(within(2s, [&] {
    const auto begun = std::chrono::steady_clock::now();
    CHECK_THROWS_WITH_AS(StationLink{settings}, doctest::Contains("no robot at 127.0.0.1"), Error);
    return std::chrono::steady_clock::now() - begun;
  }));
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
      while (socket->read(line, patience) == LineSocket::Wait::line) {
      }
      CHECK_FALSE(socket->is_open());
    });
    LinkSettings settings = patient(robot.address());
    settings.timeout = 1500ms;
    StationLink link(settings);
    CHECK_FALSE(link.wait_done(1));
    { const StationLink gone = std::move(link); }
    peer.join();
  }
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
          return LineSocket::connect(settings.address, patience);
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
    const Delivery delivery = link.deliver({.number = n, .age_ms = 0}, {});
    CHECK_MESSAGE(delivery.acknowledged, delivery.why);
    CHECK(delivery.tries == 1);
  }
  link.farewell(3);
  peers.join();
  CHECK(link.counts().connections == 1);
  CHECK(link.counts().turned_away >= 6);
}

TEST_CASE("a robot that comes anew takes the place of the one that is gone without a word") {
  const auto delivered_in = [] {
    LinkSettings settings = listening();
    settings.acknowledge = 5000ms;
    std::atomic<bool> done{false};
    std::thread peers([&] {
      const LineSocket dead = called(settings.address);  // its power was cut: it never says anything again
      std::this_thread::sleep_for(100ms);
      LineSocket robot = called(settings.address);
      CHECK(line_of(robot, "END") == "END 1");
      robot.write("ACK 1");
      while (!done) std::this_thread::sleep_for(10ms);
    });
    StationLink link(settings);
    const auto begun = std::chrono::steady_clock::now();
    CHECK(link.deliver({.number = 1, .age_ms = 0}, {}).acknowledged);
    const auto took = std::chrono::steady_clock::now() - begun;
    done = true;
    peers.join();
    CHECK(link.counts().connections == 2);
    return took;
  };
  CHECK(within(2s, delivered_in));  // long before the old one was given up
}

TEST_CASE("station and robot both get an error within a second when modes, tokens or versions differ") {
  struct Case {
    std::string answer, told;
  };
  for (const Case& c : {Case{"ROBOT 2 MODE ask", "the robot's mode is ask and the station's is push"},
                        Case{"ROBOT 2 MODE push", "the station wants a token"},
                        Case{"ROBOT 2 MODE push TOKEN wrong", "the token is wrong"},
                        Case{"ROBOT 1 MODE push", "protocol version 1; this side speaks 2"},
                        Case{"ACK 1", "answered first"}}) {
    LinkSettings settings = listening();
    settings.token = "open-sesame", settings.timeout = 700ms;
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
    take_one_result(socket);
  });
  StationLink link(settings);
  CHECK(link.deliver({.number = 1, .age_ms = 0}, {}).acknowledged);
  { const StationLink gone = std::move(link); }
  peer.join();
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
    take_one_result(*socket);
  });
  StationLink link(patient(robot.address()));
  CHECK(link.deliver({.number = 7, .age_ms = 0}, two_parts).acknowledged);
  { const StationLink gone = std::move(link); }
  peer.join();
  CHECK(within(2s, [] {
    const auto begun = std::chrono::steady_clock::now();
    CHECK_THROWS_AS(LineSocket::connect({"no-such-robot.invalid", 5017}, 700ms), Error);
    return std::chrono::steady_clock::now() - begun;
  }));
}

TEST_CASE("a trace holds every line with its time, and no token") {
  const support::TemporaryFolder folder;
  LinkSettings settings = listening();
  settings.token = "open-sesame", settings.trace = folder / "trace.txt";
  std::thread peer([&] {
    LineSocket socket = called(settings.address, "ROBOT 2 MODE push TOKEN open-sesame");
    take_one_result(socket);
  });
  StationLink link(settings);
  CHECK(link.deliver({.number = 7, .age_ms = 0}, two_parts).acknowledged);
  link.farewell(7);
  peer.join();
  const std::string trace = support::read_text(folder / "trace.txt");
  for (const char* line :
       {"Z > HERON 2 SESSION ", "Z > RESULT 7 COUNT 2 AGE ", "Z > PART 7 2 leaf", "Z > END 7",
        "Z < ROBOT 2 MODE push TOKEN (kept secret)", "Z < ACK 7", "Z > END-OF-RESULTS 7"})
    CHECK_MESSAGE(support::contains(trace, line), trace);
  CHECK_FALSE(support::contains(trace, "sesame"));
}

TEST_CASE(
    "a robot that is called and does not match ends the wait at once; a banner before its answer does not") {
  LineListener robot({"127.0.0.1", 0});
  LinkSettings settings = patient(robot.address());
  CHECK(within(1500ms, [&] {
    std::thread peer([&] {
      auto socket = greeted(robot, "ROBOT 2 MODE ask");
      CHECK(line_of(*socket, "ERROR").find("the robot's mode is ask") != std::string::npos);
    });
    const auto begun = std::chrono::steady_clock::now();
    CHECK_THROWS_WITH_AS(StationLink{settings}, doctest::Contains("the robot's mode is ask"), Error);
    const auto took = std::chrono::steady_clock::now() - begun;
    peer.join();
    return took;
  }));
  std::thread peer([&] {
    { auto socket = greeted(robot, "Welcome to controller 7"); }
    auto socket = greeted(robot);
    take_one_result(*socket);
  });
  StationLink link(settings);
  CHECK(link.deliver({.number = 1, .age_ms = 0}, {}).acknowledged);
  { const StationLink gone = std::move(link); }
  peer.join();
}

TEST_CASE("what a person should know is shown at once: who was turned away, and the first refused lines") {
  LinkSettings settings = listening();
  std::vector<std::string> shown;
  settings.warn = [&](const std::string& what) { shown.push_back(what); };
  std::thread peer([&] {
    called(settings.address, "ROBOT 2 MODE ask").close();
    LineSocket socket = called(settings.address);
    for (int i = 0; i < 20; ++i) socket.write("ACK 01");
    take_one_result(socket);
  });
  StationLink link(settings);
  CHECK(link.deliver({.number = 1, .age_ms = 0}, {}).acknowledged);
  { const StationLink gone = std::move(link); }
  peer.join();
  REQUIRE(shown.size() == 4);
  CHECK(support::contains(shown[0], "turned away: the robot's mode is ask"));
  for (size_t i = 1; i < 4; ++i)
    CHECK(support::contains(shown[i], "refused (wanted: ACK number [index]): ACK 01"));
}
