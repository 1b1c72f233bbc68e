#include <doctest/doctest.h>

#include "heron/link/line_link.hpp"
#include "link_peers.hpp"

using namespace link_peers;

namespace {

/// Three parts at x 1, 2, 3.
struct ThreeParts {
  Report report;
  explicit ThreeParts(uint64_t number = 1) {
    report.number = number;
    for (const double x : {1.0, 2.0, 3.0}) {
      ReportedPart part;
      part.robot = RobotPose{x, 0, 0, {}, {}};
      report.parts.push_back(part);
    }
  }
  SentReport sent() const { return sent_of(report, 0); }
};

LineFormat format(const std::string& acknowledge = "", const std::string& ask = "") {
  return {.line = "{number}:{parts}",
          .part = "{x}",
          .separator = " ",
          .line_end = "\r\n",
          .ask = ask,
          .acknowledge = acknowledge,
          .forms = {{.name = "x", .of = "x", .decimals = 0}}};
}

std::string heard(LineSocket& socket) {
  std::string line;
  return socket.read(line, patience) == LineSocket::Wait::line ? line : "nothing";
}

}  // namespace

TEST_CASE("a station that listens sends its lines to whoever came, and to whoever came last") {
  LineLink link(listening(), format());
  LineSocket first = LineSocket::connect(link.address(), patience);
  const Delivery one = link.deliver(ThreeParts(1).sent());
  CHECK(one.acknowledged);
  CHECK(one.tries == 1);
  CHECK(heard(first) == "1:1 2 3");
  LineSocket second = LineSocket::connect(link.address(), patience);
  std::this_thread::sleep_for(50ms);
  CHECK(link.deliver(ThreeParts(2).sent()).acknowledged);
  CHECK(heard(second) == "2:1 2 3");
  std::string none;
  CHECK(first.read(none, 2000ms) != LineSocket::Wait::line);
  CHECK(link.counts().connections == 2);
}

TEST_CASE("what is sent ends as the receiver wants it") {
  const LineLink link(listening(), format());
  CHECK(link.bytes_of(ThreeParts().sent()) == "1:1 2 3\r\n");
}

TEST_CASE("a station calls its receiver, and again when it was gone") {
  auto receiver = std::make_unique<LineListener>(Address{"127.0.0.1", 0});
  const Address address = receiver->address();
  LinkSettings settings = patient(address);
  settings.timeout = 1500ms;
  LineLink link(settings, format());
  std::thread late([&] {
    auto socket = receiver->accept(patience);
    REQUIRE(socket);
    CHECK(heard(*socket) == "1:1 2 3");
  });
  CHECK(link.deliver(ThreeParts(1).sent()).acknowledged);
  late.join();
  receiver.reset();
  std::this_thread::sleep_for(50ms);
  const Delivery nobody = link.deliver(ThreeParts(2).sent());
  // The first write into a connection that the other side has closed may still be taken by the system.
  if (!nobody.acknowledged) CHECK(nobody.why.find("no receiver at 127.0.0.1") != std::string::npos);
  const Delivery after = link.deliver(ThreeParts(3).sent());
  CHECK_FALSE(after.acknowledged);
  CHECK(after.why.find("is it switched on") != std::string::npos);
}

TEST_CASE("a result is sent again until its acknowledgement comes, three times in all") {
  LinkSettings settings = listening();
  settings.acknowledge = 1000ms;
  LineLink link(settings, format("OK"));
  LineSocket robot = LineSocket::connect(link.address(), patience);
  std::thread answers([&] {
    CHECK(heard(robot) == "1:1 2 3");  // no answer
    CHECK(heard(robot) == "1:1 2 3");
    robot.write("what?");
    robot.write("OK");
  });
  const Delivery delivery = link.deliver(ThreeParts(1).sent());
  answers.join();
  CHECK(delivery.acknowledged);
  CHECK(delivery.tries == 2);
  CHECK(link.counts().repeats == 1);
  CHECK(link.counts().refused_lines == 1);
  const Delivery silent = link.deliver(ThreeParts(2).sent());
  CHECK_FALSE(silent.acknowledged);
  CHECK(silent.tries == 3);
  CHECK(silent.why == "link: result 2 was sent 3 times and not acknowledged");
}

TEST_CASE("a station that is asked answers who asked, and gives up what nobody waits for") {
  LineLink link(listening(LinkMode::ask), format("", "TRIG"));
  LineSocket robot = LineSocket::connect(link.address(), patience);
  robot.write("HELLO");
  robot.write("TRIG\r");
  REQUIRE(link.wait_asked());
  CHECK(link.counts().refused_lines == 1);
  CHECK(link.answer(ThreeParts(1).sent()).acknowledged);
  CHECK(heard(robot) == "1:1 2 3");

  LineSocket another = LineSocket::connect(link.address(), patience);
  another.write("TRIG");
  REQUIRE(link.wait_asked());
  CHECK(link.answer(ThreeParts(2).sent()).acknowledged);
  CHECK(heard(another) == "2:1 2 3");

  LineFormat asks_back = format("OK", "TRIG");
  LineLink strict(listening(LinkMode::ask), asks_back);
  {
    LineSocket hasty = LineSocket::connect(strict.address(), patience);
    hasty.write("TRIG");
    REQUIRE(strict.wait_asked());
  }
  const Delivery lost = strict.answer(ThreeParts(3).sent());
  CHECK_FALSE(lost.acknowledged);
  CHECK(lost.given_up);
}

TEST_CASE("nobody who asks ends the wait, and so does a stop") {
  LinkSettings settings = listening(LinkMode::ask);
  settings.timeout = 200ms, settings.finish = 300ms;
  LineLink link(settings, format("", "TRIG"));
  CHECK_THROWS_WITH_AS(link.wait_asked(), doctest::Contains("for 0.3 s (nobody connected)"), Error);
  const LineSocket silent = LineSocket::connect(link.address(), patience);
  CHECK_THROWS_WITH_AS(link.wait_asked(), doctest::Contains("for 0.3 s (connected, and silent)"), Error);
  Work stop;
  settings.address.port = 0, settings.timeout = settings.finish = 60s;
  LineLink stopped(settings, format("", "TRIG"), &stop);
  std::thread stops([&] {
    std::this_thread::sleep_for(100ms);
    stop.stop();
  });
  CHECK_FALSE(stopped.wait_asked());
  CHECK_FALSE(stopped.deliver(ThreeParts().sent()).acknowledged);
  stops.join();
}

TEST_CASE("mode ask needs a line that asks") {
  CHECK_THROWS_AS(LineLink(listening(LinkMode::ask), format()), Error);
}

TEST_CASE("a question instead of the acknowledgement gives up the result and is answered itself") {
  LineLink link(listening(LinkMode::ask), format("OK", "TRIG"));
  LineSocket robot = LineSocket::connect(link.address(), patience);
  robot.write("TRIG");
  REQUIRE(link.wait_asked());
  robot.write("TRIG");
  CHECK(link.answer(ThreeParts(1).sent()).given_up);
  REQUIRE(link.wait_asked());
  robot.write("OK");
  CHECK(link.answer(ThreeParts(2).sent()).acknowledged);
  CHECK(link.counts().refused_lines == 0);
}

TEST_CASE("a late acknowledgement is none of the next result") {
  LinkSettings settings = listening();
  settings.acknowledge = 300ms;
  LineLink link(settings, format("OK"));
  LineSocket robot = LineSocket::connect(link.address(), patience);
  std::thread answers([&] {
    CHECK(heard(robot) == "1:1 2 3");
    CHECK(heard(robot) == "1:1 2 3");  // sent again: the robot answers both
    robot.write("OK\nOK");
  });
  CHECK(link.deliver(ThreeParts(1).sent()).acknowledged);
  answers.join();
  std::this_thread::sleep_for(50ms);
  CHECK_FALSE(link.deliver(ThreeParts(2).sent()).acknowledged);
}
