#include <doctest/doctest.h>

#include <algorithm>
#include <functional>

#include "heron/render/random.hpp"
#include "link_peers.hpp"

using namespace link_peers;

TEST_CASE("a result is delivered once it is acknowledged") {
  LineListener robot({"127.0.0.1", 0});
  std::string hello, result;
  std::thread peer([&] {
    auto socket = robot.accept(patience);
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
  StationLink link(patient(robot.address()));
  const Delivery delivery = link.deliver({.number = 7, .age_ms = 12}, two_parts);
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
      auto socket = robot.accept(patience);
      first_session = line_of(*socket, "HERON");
      socket->write("ROBOT 2 MODE push");
      line_of(*socket, "PART");
    }  // gone before the acknowledgement
    auto socket = robot.accept(patience);
    second_session = line_of(*socket, "HERON");
    socket->write("ROBOT 2 MODE push");
    again = line_of(*socket, "RESULT");
    line_of(*socket, "END");
    socket->write("ACK 7");
    line_of(*socket, "END-OF-RESULTS");
  });
  StationLink link(patient(robot.address()));
  CHECK(link.deliver({.number = 7, .age_ms = 0}, two_parts).acknowledged);
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
        while (socket->read(line, patience) == LineSocket::Wait::line) seen += line.starts_with("RESULT");
      }
  });
  LinkSettings settings = patient(robot.address());
  settings.acknowledge = 300ms;
  StationLink link(settings);
  const Delivery delivery = link.deliver({.number = 7, .age_ms = 0}, two_parts);
  CHECK_FALSE(delivery.acknowledged);
  CHECK(delivery.why.find("result 7 was sent 3 times") != std::string::npos);
  { const StationLink gone = std::move(link); }
  done = true;
  peer.join();
  CHECK(seen == 3);
}

TEST_CASE("one refused line per result never ends the connection") {
  LineListener robot({"127.0.0.1", 0});
  constexpr uint64_t results = 70;  // more than the refused lines that one connection may hold
  std::thread peer([&] {
    auto socket = greeted(robot);
    for (std::string end; !(end = line_of(*socket, "END")).empty();) {
      socket->write("thanks");
      socket->write("ACK " + end.substr(4));
    }
  });
  StationLink link(patient(robot.address()));
  uint64_t acknowledged = 0;
  for (uint64_t n = 1; n <= results; ++n)
    acknowledged += link.deliver({.number = n, .age_ms = 0}, {}).acknowledged;
  { const StationLink gone = std::move(link); }
  peer.join();
  CHECK(acknowledged == results);
}

TEST_CASE(
    "a station beats once a second with the newest number, while it waits and while its caller is busy") {
  const auto longest_pause = [] {
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
    StationLink link(patient(robot.address()));
    CHECK(link.deliver({.number = 9, .age_ms = 0}, {}).acknowledged);
    std::this_thread::sleep_for(2500ms);  // a camera that is slow
    CHECK(link.wait_done(9));
    peer.join();
    for (const std::string& beat : beats) CHECK(beat == "HEARTBEAT 9");
    return std::max(times.at(1) - times.at(0), times.at(2) - times.at(1));
  };
  CHECK(within(2s, longest_pause));
}

TEST_CASE("asked: the same part again until it is acknowledged by number and index, and none is lost") {
  LineListener robot({"127.0.0.1", 0});
  std::vector<std::string> heard;
  std::thread peer([&] {
    auto socket = greeted(robot, "ROBOT 2 MODE ask");
    const auto say = [&](const char* line) {
      socket->write(line);
      std::string answer;
      do socket->read(answer, patience);
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
  StationLink link(patient(robot.address(), LinkMode::ask));
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
  LinkSettings settings = patient(robot.address());
  StationLink link(settings);
  CHECK(link.deliver({.number = 7, .age_ms = 0}, two_parts).acknowledged);
  const auto begun = std::chrono::steady_clock::now();
  CHECK(link.wait_done(7));
  CHECK(std::chrono::steady_clock::now() - begun > 600ms);
  link.farewell(7);
  peer.join();
}

TEST_CASE("every wait of a link ends within half a second of a stop") {
  const auto stopped = [](const std::function<void(const Work&)>& wait, Work& stop) {
    std::chrono::steady_clock::time_point asked;
    std::jthread side([&] {
      std::this_thread::sleep_for(200ms);
      asked = std::chrono::steady_clock::now();
      stop.stop();
    });
    wait(stop);
    return std::chrono::steady_clock::now() - asked;
  };
  constexpr auto bound = 900ms;  // half a second, and a busy machine
  LinkSettings nobody = listening();
  nobody.timeout = 60s;
  for (const bool listens : {true, false}) {
    nobody.listens = listens;
    CHECK(within(bound, [&] {
      Work stop;
      return stopped([&](const Work& s) { const StationLink link(nobody, &s); }, stop);
    }));
  }
  const auto at_work = [&](LinkMode mode, int wait) {
    LineListener robot({"127.0.0.1", 0});
    std::string end;
    std::thread peer([&] {
      auto socket = greeted(robot, mode == LinkMode::push ? "ROBOT 2 MODE push" : "ROBOT 2 MODE ask");
      end = line_of(*socket, "END-OF-RESULTS");
    });
    LinkSettings settings = patient(robot.address(), mode);
    settings.acknowledge = settings.finish = 60s;
    Work stop;
    StationLink link(settings, &stop);
    const auto took = stopped(
        [&](const Work&) {
          if (mode == LinkMode::push && wait == 0)
            CHECK_FALSE(link.deliver({.number = 7, .age_ms = 0}, {}).acknowledged);
          if (mode == LinkMode::push && wait == 1) CHECK_FALSE(link.wait_done(7));
          if (mode == LinkMode::ask && wait == 0) CHECK_FALSE(link.wait_next(7));
          if (mode == LinkMode::ask && wait == 1) CHECK_FALSE(link.answer(7, two_parts).acknowledged);
        },
        stop);
    link.farewell(7);
    peer.join();
    CHECK(end == "END-OF-RESULTS 7");  // sent in this case too
    return took;
  };
  for (const LinkMode mode : {LinkMode::push, LinkMode::ask})
    for (const int wait : {0, 1}) {
      CAPTURE(wait);
      CHECK(within(bound, [&] { return at_work(mode, wait); }));
    }
}

TEST_CASE("a thousand cuts lose, repeat or delay nothing silently") {
  constexpr uint64_t last_result = 1000;
  LineListener robot({"127.0.0.1", 0});
  render::Random random(4);
  std::vector<uint64_t> acted, unmarked_repeats;
  int cuts = 0;
  std::atomic<bool> done{false};
  std::thread peer([&] {
    uint64_t newest = 0;
    while (!done) {
      auto socket = greeted(robot, "ROBOT 2 MODE push", 100ms);
      while (socket) {
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
  StationLink link(patient(robot.address()));
  std::vector<uint64_t> delivered, told;
  for (uint64_t n = 1; n <= last_result; ++n) {
    const Delivery d = link.deliver({.number = n}, {part(n, 1, "leaf", 0, 0, 0, 0)});
    (d.acknowledged ? delivered : told).push_back(n);  // three cuts in a row: said, not silent
  }
  { const StationLink gone = std::move(link); }
  done = true;
  peer.join();
  CHECK(cuts >= 1000);
  CHECK(delivered.size() + told.size() == last_result);
  for (size_t i = 1; i < acted.size(); ++i) CHECK(acted[i] > acted[i - 1]);  // each acted on once, in order
  for (const uint64_t n : delivered) CHECK(std::binary_search(acted.begin(), acted.end(), n));
  CHECK(unmarked_repeats.empty());
}
