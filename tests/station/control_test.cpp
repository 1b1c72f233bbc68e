// Triggers, hold, and what outlets see of a station.
#include <doctest/doctest.h>

#include "heron/simulation/station_peer.hpp"
#include "patience.hpp"
#include "sanitized.hpp"
#include "station_cell.hpp"

using namespace station_cell;
using support::contains;
using support::error_of;

namespace {

using StationClock = std::chrono::steady_clock;

std::string with(const std::string& more, const std::string& link) {
  std::string text = cell().text(cell().fixed(), link);
  return text.insert(text.find("[link]"), more + "\n");
}

std::string store_in(const support::TemporaryFolder& folder) {
  return "[store]\nfolder = \"" + folder / "store" + "\"\ngive_up_s = \"never\"\n";
}

const std::string push = "connect = \"127.0.0.1:1\"\nmode = \"push\"";

/// Counts how often it is woken.
class Bell : public ReportOutlet {
 public:
  explicit Bell(std::atomic<int>& rings) : rings_(rings) {}
  void wake() override { ++rings_; }
  OutletCounts counts() const override { return {}; }
  std::string text() const override { return "bell"; }

 private:
  std::atomic<int>& rings_;
};

/// A robot that is done at once, and keeps every line that it hears.
class PatientRobot {
 public:
  explicit PatientRobot(LinkMode mode)
      : mode_(mode), listener_({"127.0.0.1", 0}), thread_([this] { work(); }) {}
  Address address() const { return listener_.address(); }
  int count(const std::string& word) const {
    const std::lock_guard lock(mutex_);
    return static_cast<int>(
        std::count_if(lines_.begin(), lines_.end(), [&](const auto& l) { return l.starts_with(word); }));
  }

 private:
  void work() {
    using namespace text_protocol;
    auto socket = listener_.accept(patience);
    std::string line;
    while (socket && socket->read(line, patience) == LineSocket::Wait::line) {
      {
        const std::lock_guard lock(mutex_);
        lines_.push_back(line);
      }
      const auto parsed = parse_station_line(line);
      if (!parsed.line) continue;
      const auto say = [&](const RobotLine& l) { socket->write(encode(l)); };
      if (std::holds_alternative<Hello>(*parsed.line)) say(Robot{.mode = mode_});
      if (std::holds_alternative<Hello>(*parsed.line) && mode_ == LinkMode::ask) say(Next{});
      if (const auto* end = std::get_if<End>(&*parsed.line)) say(Ack{end->number}), say(Done{end->number});
      if (std::holds_alternative<EndOfResults>(*parsed.line)) return;
    }
  }
  LinkMode mode_;
  LineListener listener_;
  mutable std::mutex mutex_;
  std::vector<std::string> lines_;
  std::jthread thread_;
};

/// Ends the station's thread when a test fails in the middle.
struct StopAtEnd {
  Work& work;
  ~StopAtEnd() { work.stop(); }
};

template <class Condition>
bool soon(Condition condition) {
  for (int i = 0; i < 2000; ++i) {
    if (condition()) return true;
    std::this_thread::sleep_for(10ms);
  }
  return false;
}

}  // namespace

TEST_CASE("a timer begins pictures at its times, and drops those that came while one was worked on") {
  Station station(cell().station(with("[trigger]\nby = \"timer\"\nevery_s = 0.4", push)));
  station.begin_dry_run();
  REQUIRE(station.next());
  const auto first = StationClock::now();
  std::this_thread::sleep_for(900ms);  // two of its times pass
  REQUIRE(station.next());
  const auto second = StationClock::now();
  CHECK(second - first > 1000ms);
  CHECK(station.dropped_triggers() >= 2);
}

TEST_CASE("with a queue the triggers of a timer are made up for") {
  const auto second = [] {
    Station station(cell().station(with("[trigger]\nby = \"timer\"\nevery_s = 2\nqueue = 5", push)));
    station.begin_dry_run();
    REQUIRE(station.next());
    std::this_thread::sleep_for(2200ms);
    const auto begun = StationClock::now();
    REQUIRE(station.next());  // its time has passed; the next is in more than a second
    CHECK(station.dropped_triggers() == 0);
    return StationClock::now() - begun;
  };
  // Under sanitizers a picture alone takes longer than that.
  CHECK(within(sanitized ? 20s : 1200ms, second));
}

TEST_CASE("commands trigger, hold and release a station that pushes; outlets are woken") {
  support::TemporaryFolder folder;
  StationFile file = cell().station(
      with("[trigger]\nby = \"command\"\n" + store_in(folder) + "[http]\nlisten = \"127.0.0.1:1\"", push));
  PatientRobot robot(LinkMode::push);
  file.link.address = robot.address();
  Work stop;
  Station station(file, nullptr, &stop);
  station.open_link();
  StationPort& port = station.port();
  std::atomic<int> rings = 0;
  station.add_outlet(std::make_unique<Bell>(rings));
  CHECK(port.name() == "test");
  CHECK(port.state() == StationState::working);
  CHECK(port.newest() == 0);
  CHECK(port.picture_png().empty());
  CHECK(contains(port.command(StationCommand::trigger).reason,
                 "a picture is being worked on"));  // not waiting yet
  std::atomic<int> steps = 0;
  std::jthread work([&] {
    while (station.step()) ++steps;
  });
  const StopAtEnd end{stop};
  REQUIRE(soon([&] { return port.command(StationCommand::trigger).taken; }));
  REQUIRE(soon([&] { return steps == 1; }));
  CHECK(rings == 1);
  CHECK(port.newest() == 1);
  CHECK(port.reports_after(0, 10).size() == 1);
  CHECK(contains(port.report(1)->json, "\"number\":1"));
  CHECK(port.picture_png().starts_with("\x89PNG"));
  // Held: the robot hears it at once, and nothing is taken.
  CHECK(within(700ms, [&] {
    const int holds = robot.count("HOLD 1"), beats = robot.count("HEARTBEAT 1"), rung = rings;
    CHECK(port.command(StationCommand::hold).taken);
    CHECK(port.command(StationCommand::hold).taken);
    CHECK(port.state() == StationState::held);
    CHECK(rings == rung + 1);
    const auto held_at = StationClock::now();
    REQUIRE(soon([&] { return robot.count("HOLD 1") > holds; }));
    const auto took = StationClock::now() - held_at;
    CHECK(port.command(StationCommand::trigger).reason == "the station is held");
    REQUIRE(soon([&] { return robot.count("HOLD 1") > holds + 1; }));
    CHECK(steps == 1);
    CHECK(port.command(StationCommand::release).taken);
    REQUIRE(soon([&] { return robot.count("HEARTBEAT 1") > beats; }));
    return took;
  }));
  CHECK(port.command(StationCommand::trigger).taken);
  REQUIRE(soon([&] { return steps == 2; }));
  REQUIRE(soon([&] { return port.command(StationCommand::trigger).taken; }));  // the recording has ended
  work.join();
  CHECK(port.state() == StationState::ended);
  CHECK(port.command(StationCommand::hold).reason == "the station has ended");
  CHECK(port.position("hall") == 0);
  port.set_position("hall", 2);
  CHECK(port.position("hall") == 2);
}

TEST_CASE("a robot that asks while the station is held gets its answer after the release") {
  support::TemporaryFolder folder;
  StationFile file = cell().station(with(store_in(folder), "connect = \"127.0.0.1:1\"\nmode = \"ask\""));
  PatientRobot robot(LinkMode::ask);
  file.link.address = robot.address();
  Work stop;
  Station station(file, nullptr, &stop);
  station.open_link();
  CHECK(station.port().command(StationCommand::hold).taken);
  std::jthread work([&] { station.step(); });
  const StopAtEnd end{stop};
  REQUIRE(soon([&] { return robot.count("HOLD") >= 2; }));
  CHECK(robot.count("PART") == 0);
  CHECK(station.port().command(StationCommand::release).taken);
  CHECK(soon([&] { return robot.count("PART 1 1") == 1; }));
}

TEST_CASE("a stop ends every wait for a trigger, held or not") {
  const auto stopped = [](bool held) {
    support::TemporaryFolder folder;
    StationFile file = cell().station(
        with("[trigger]\nby = \"command\"\n" + store_in(folder) + "[http]\nlisten = \"127.0.0.1:1\"", push));
    PatientRobot robot(LinkMode::push);
    file.link.address = robot.address();
    Work stop;
    Station station(file, nullptr, &stop);
    station.open_link();
    if (held) CHECK(station.port().command(StationCommand::hold).taken);
    std::jthread end([&] {
      std::this_thread::sleep_for(200ms);
      stop.stop();
    });
    const auto begun = StationClock::now();
    CHECK_FALSE(station.next());
    const auto took = StationClock::now() - begun;
    CHECK(soon([&] { return robot.count("END-OF-RESULTS") == 1; }));
    return took;
  };
  for (const bool held : {false, true}) CHECK(within(700ms, [&] { return stopped(held); }));
}

TEST_CASE("triggers and outlets that cannot be are refused with their place") {
  const auto error = [](const std::string& more, const std::string& link = push) {
    return error_of([&] { cell().station(with(more, link)); });
  };
  const std::string store = "[store]\nfolder = \"x\"\ngive_up_s = 5\n";
  CHECK(contains(error("[mqtt]\nbroker = \"127.0.0.1:1883\"\ntopic = \"t\""), "'mqtt' needs a [store]"));
  CHECK(contains(error("[http]\nlisten = \"127.0.0.1:8080\""), "'http' needs a [store]"));
  CHECK(contains(error("[trigger]\nby = \"command\""), "there is no [mqtt] or [http]"));
  CHECK(contains(error("[trigger]\nby = \"timer\"\nevery_s = 0"), "every_s"));
  CHECK(contains(error("[trigger]\nby = \"timer\"\nqueue = -1"), "must be from 0 to 1000"));
  CHECK(contains(error("[trigger]\nby = \"station\"\nqueue = 1"), "queue"));
  CHECK(contains(error("[trigger]\nby = \"input\""), "by"));
  CHECK(contains(error("[trigger]\nby = \"timer\"", "connect = \"127.0.0.1:1\"\nmode = \"ask\""),
                 "its question begins the picture"));
  CHECK(contains(error(store + "[mqtt]\nbroker = \"127.0.0.1\"\ntopic = \"t\""), "broker"));
  CHECK(contains(error(store + "[mqtt]\nbroker = \"127.0.0.1:0\"\ntopic = \"t\""), "needs a port above 0"));
  CHECK(contains(error(store + "[mqtt]\nbroker = \"127.0.0.1:1883\"\ntopic = \"t/#\""), "'topic' may hold"));
  CHECK(contains(error(store + "[mqtt]\nbroker = \"127.0.0.1:1883\"\ntopic = \"t\"\npassword_file = \"p\""),
                 "needs a user"));
  CHECK(contains(error(store + "[http]\nlisten = \"127.0.0.1:8080\"\nkey = \"k\""), "certificate"));
  CHECK(contains(error(store + "[http]\nlisten = \"127.0.0.1:8080\"\nport = 1"), "unknown key"));
  StationFile none = cell().station(with("", push));
  Station station(none);
  CHECK(contains(error_of([&] { station.port(); }), "has none open"));
}
