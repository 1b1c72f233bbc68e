#include <doctest/doctest.h>

#include <thread>

#include "heron/base/error.hpp"
#include "heron/simulation/simulated_robot.hpp"
#include "heron/simulation/tray_cell.hpp"
#include "patience.hpp"
#include "support.hpp"

using namespace heron;
using namespace std::chrono_literals;

namespace {

const RobotTruth two_leaves{{{{"leaf", {100, 50, 10_deg}}, {"leaf", {200, 50, 20_deg}}}}};

/// What a station says on one connection. It stays until the robot has given as many answers, or has left
/// after END-OF-RESULTS.
struct Said {
  std::vector<std::string> lines;
  size_t answers = 0;
  bool ends() const { return lines.back().starts_with("END-OF-RESULTS"); }
};

/// Plays the station's side line by line; `answers` collects what the robot says.
struct Play {
  std::vector<std::string> answers;
  RobotLog log;

  Play(RobotSettings settings, const RobotTruth& truth, const std::vector<Said>& connections) {
    settings.timeout = connections.back().ends() ? patience : 600ms;  // else nobody comes again
    settings.time_scale = 1000;
    SimulatedRobot robot(settings, truth);
    std::jthread side([&] { log = robot.run(); });
    for (const Said& said : connections) {
      LineSocket socket = LineSocket::connect(robot.address(), patience);
      for (const std::string& line : said.lines) socket.write(line);
      std::string answer;
      for (size_t k = 0; said.ends() || k < said.answers; ++k) {
        if (socket.read(answer, patience) != LineSocket::Wait::line) break;
        answers.push_back(answer);
      }
    }
    side.join();
  }
};

const std::string hello = "HERON 2 SESSION one MODE push UNITS MM DEG FIELDS x y angle score";
const std::string greeting = "ROBOT 2 MODE push";

}  // namespace

TEST_CASE("the robot goes where it is told and knows how far it is off") {
  const Play play({.address = {"127.0.0.1", 0}, .home = {0, 50, {}}}, two_leaves,
                  {{{hello, "RESULT 1 COUNT 2 AGE 5", "PART 1 1 leaf 100.3 50.4 11 99",
                     "PART 1 2 leaf 200 50 20 98", "END 1", "END-OF-RESULTS 1"}}});
  CHECK(play.answers == std::vector<std::string>{greeting, "ACK 1", "DONE 1"});
  REQUIRE(play.log.arrivals.size() == 2);
  CHECK(play.log.arrivals[0].off_mm == doctest::Approx(0.5));
  CHECK(play.log.arrivals[0].off_angle.degrees() == doctest::Approx(1));
  CHECK(play.log.arrivals[0].travel_s == doctest::Approx(100.3 / 500).epsilon(1e-4));
  CHECK(play.log.arrivals[1].off_mm == doctest::Approx(0));
  CHECK(play.log.over);
  CHECK(play.log.left_lying == 0);
}

TEST_CASE("a part that is not there, and one that nobody went to, are told") {
  const Play play({.address = {"127.0.0.1", 0}}, two_leaves,
                  {{{hello, "RESULT 1 COUNT 2 AGE 5", "PART 1 1 kite 100 50 10 99",
                     "PART 1 2 leaf 200 50 20 98", "END 1", "END-OF-RESULTS 1"}}});
  CHECK_FALSE(play.log.arrivals[0].matched);
  CHECK(play.log.arrivals[1].matched);
  CHECK(play.log.left_lying == 1);
}

TEST_CASE("a result that comes again is answered and not acted on twice") {
  const std::vector<std::string> result{hello, "RESULT 1 COUNT 1 AGE 5", "PART 1 1 leaf 100 50 10 99",
                                        "END 1"};
  std::vector<std::string> again = result;
  again[1] += " AGAIN";
  again.push_back("END-OF-RESULTS 1");
  const Play play({.address = {"127.0.0.1", 0}}, two_leaves, {{result, 3}, {again}});
  CHECK(play.log.arrivals.size() == 1);
  CHECK(play.log.repeats == 1);
  CHECK(play.answers ==
        std::vector<std::string>{greeting, "ACK 1", "DONE 1", greeting, "DONE 1", "ACK 1", "DONE 1"});
}

TEST_CASE("another session starts its numbers anew") {
  const Play play({.address = {"127.0.0.1", 0}}, two_leaves,
                  {{{hello, "RESULT 1 COUNT 1 AGE 5", "PART 1 1 leaf 100 50 10 99", "END 1"}, 3},
                   {{"HERON 2 SESSION two MODE push UNITS MM DEG FIELDS x y angle score",
                     "RESULT 1 COUNT 1 AGE 5", "PART 1 1 leaf 200 50 20 99", "END 1", "END-OF-RESULTS 1"}}});
  CHECK(play.log.arrivals.size() == 2);
  CHECK(play.log.repeats == 0);
}

TEST_CASE("an asking robot starts anew when the session is a new one, in the middle of a result too") {
  const std::string fields = " MODE ask UNITS MM DEG FIELDS x y angle score";
  const Play play(
      {.address = {"127.0.0.1", 0}, .asks = true}, two_leaves,
      {{{"HERON 2 SESSION one" + fields, "PART 1 1 leaf 100 50 10 99"}, 4},
       {{"HERON 2 SESSION two" + fields, "PART 1 1 leaf 200 50 20 99", "NONE 1", "END-OF-RESULTS 1"}}});
  CHECK(play.log.arrivals.size() == 2);
  CHECK(play.log.repeats == 0);
  CHECK(play.log.over);
  CHECK(play.answers == std::vector<std::string>{"ROBOT 2 MODE ask", "NEXT", "ACK 1 1", "NEXT",
                                                 "ROBOT 2 MODE ask", "NEXT", "ACK 1 1", "NEXT", "ACK 1",
                                                 "NEXT"});
}

TEST_CASE("half a result is not acted on") {
  const Play cut({.address = {"127.0.0.1", 0}}, two_leaves,
                 {{{hello, "RESULT 1 COUNT 2 AGE 5", "PART 1 1 leaf 100 50 10 99"}, 1}});
  CHECK(cut.log.arrivals.empty());
  CHECK(cut.answers == std::vector<std::string>{greeting});
  const Play short_by_one({.address = {"127.0.0.1", 0}}, two_leaves,
                          {{{hello, "RESULT 1 COUNT 2 AGE 5", "PART 1 1 leaf 100 50 10 99", "END 1"}, 1}});
  CHECK(short_by_one.log.arrivals.empty());
  CHECK_FALSE(short_by_one.log.over);
}

TEST_CASE("lines outside the grammar are counted and passed over") {
  const Play play({.address = {"127.0.0.1", 0}}, two_leaves,
                  {{{hello, "hello robot", "RESULT one COUNT 1 AGE 5", "RESULT 1 COUNT 0 AGE 5", "END 1",
                     "END-OF-RESULTS 1"}}});
  CHECK(play.log.refused_lines == 2);
  CHECK(play.log.results == 1);
}

TEST_CASE("a station that never comes ends the wait") {
  SimulatedRobot robot({.address = {"127.0.0.1", 0}, .timeout = 100ms}, {});
  const RobotLog log = robot.run();
  CHECK_FALSE(log.over);
  CHECK(log.arrivals.empty());
}

TEST_CASE("settings out of range are refused") {
  CHECK_THROWS_AS(SimulatedRobot({.address = {"127.0.0.1", 0}, .speed_mm_s = 0}, {}), Error);
  CHECK_THROWS_AS(SimulatedRobot({.address = {"127.0.0.1", 0}, .speed_mm_s = NAN}, {}), Error);
  CHECK_THROWS_AS(SimulatedRobot({.address = {"127.0.0.1", 0}, .time_scale = 0.5}, {}), Error);
}

TEST_CASE("truth comes back as it was written, and a broken file is refused") {
  support::TemporaryFolder folder;
  save_truth(folder / "t.json", two_leaves);
  const RobotTruth back = load_truth(folder / "t.json");
  REQUIRE(back.pictures.size() == 1);
  CHECK(back.pictures[0][1].robot_from_part.x == 200);
  CHECK(back.pictures[0][1].robot_from_part.angle.degrees() == doctest::Approx(20));
  for (const char* text : {"", "{", "[]", "{\"version\":2,\"pictures\":[]}",
                           "{\"version\":1,\"pictures\":[{\"parts\":[{\"name\":1}]}]}"}) {
    support::write_text(folder / "b.json", text);
    CHECK_THROWS_AS(load_truth(folder / "b.json"), Error);
  }
}

TEST_CASE("a cell is the same for the same seed, and its region lies around the taught tile") {
  support::TemporaryFolder folder;
  const TrayCell a = write_tray_cell(folder / "a", 5, {.views = 1}),
                 b = write_tray_cell(folder / "b", 5, {.views = 1});
  for (const char* name : {"board.png", "teach.png", "tray/tray-01.png", "touched.csv", "truth.json"})
    CHECK(support::read_text(a.path(name)) == support::read_text(b.path(name)));
  const Pose2& tile = a.station.teach.tiles[0].table_from_tile;
  const Point2 middle = a.station.camera.project({tile.x, tile.y, 0});
  CHECK(distance(a.teach_region.centre(), middle) < 1);
  CHECK_THROWS_AS(write_tray_cell("/proc/no/such", 1), Error);
}
