// Several set-ups in one station: how they are read, selected, loaded anew, and told.
#include <doctest/doctest.h>

#include "heron/files/report_json.hpp"
#include "heron/link/line_link.hpp"
#include "heron/simulation/station_peer.hpp"
#include "patience.hpp"
#include "sanitized.hpp"
#include "station_cell.hpp"

using namespace station_cell;
using support::contains;
using support::error_of;

namespace {

const std::string to_robot = "connect = \"127.0.0.1:1\"\nmode = \"push\"";

/// A station whose set-up 1 finds all five leaves, and whose set-up 7 the best three.
struct TwoSetUps {
  support::TemporaryFolder folder;
  std::string one = "version = 1\n[[target]]\nfile = \"" + cell().tray.path("leaf.png") + "\"\n";
  std::string seven = one + "max_count = 3\n";

  TwoSetUps() { write(); }
  void write() const {
    support::write_text(folder / "one.toml", one);
    support::write_text(folder / "seven.toml", seven);
  }
  std::string entries() const {
    return "[[setup]]\nnumber = 1\nname = \"all leaves\"\nfile = \"" + (folder / "one.toml") +
           "\"\n[[setup]]\nnumber = 7\nname = \"three\"\nfile = \"" + (folder / "seven.toml") + "\"\n";
  }
  /// The tray's station with these instead of its own target.
  std::string text(const std::string& link = to_robot, const std::string& more = "") const {
    std::string text = cell().text(cell().fixed(), link);
    const std::string own = "[[target]]\nfile = \"leaf.png\"\n";
    return text.replace(text.find(own), own.size(), more + entries());
  }
  StationFile file(const std::string& link = to_robot, const std::string& more = "") const {
    return cell().station(text(link, more));
  }
};

size_t parts_of(Station& station) {
  const StationFile& file = station.file();
  return station
      .examine(load_picture(cell().tray.path("tray/tray-01.png")), file.setups.front().robot_from_world)
      .parts.size();
}

RobotLog worked(const StationFile& with, RobotSettings settings) {
  StationFile file = with;
  settings.time_scale = 1000, settings.listens = true, settings.address = {"127.0.0.1", 0};
  SimulatedRobot robot(settings, load_truth(cell().tray.path("truth.json")));
  file.link.address = robot.address();
  RobotLog log;
  std::jthread side([&] { log = robot.run(); });
  Station station(file);
  station.open_link();
  while (station.step()) {
  }
  side.join();
  return log;
}

/// A greeted robot, line by line.
struct RobotLines {
  LineSocket socket;

  RobotLines(const Address& station, const std::string& mode) : socket(connected(station)) {
    REQUIRE(next("HERON").find("MODE") != std::string::npos);
    say("ROBOT 2 MODE " + mode);
  }
  static LineSocket connected(const Address& station) {
    for (;;) try {
        return LineSocket::connect(station, patience);
      } catch (const Error&) {  // its port is not open yet
        std::this_thread::sleep_for(20ms);
      }
  }
  void say(const std::string& line) { REQUIRE(socket.write(line)); }
  /// The next line that begins so.
  std::string next(const std::string& word) {
    std::string line;
    const auto deadline = std::chrono::steady_clock::now() + patience;  // heartbeats never end
    while (std::chrono::steady_clock::now() < deadline &&
           socket.read(line, patience) == LineSocket::Wait::line)
      if (line.starts_with(word)) return line;
    return "nothing";
  }
};

}  // namespace

TEST_CASE("a set-up has what its file says, and else what the station's says") {
  TwoSetUps two;
  two.seven =
      "quick = true\nversion = 1\n[camera]\ntimeout_s = 3\n[order]\nby = \"score\"\n[[target]]\nfile = \"" +
      cell().tray.path("leaf.png") + "\"\nmax_count = 3\n";
  two.write();
  const StationFile file = two.file();
  REQUIRE(file.setups.size() == 2);
  const SetUp &first = file.setups[0], &second = file.setups[1];
  CHECK(file.start == 1);
  CHECK(first.name == "all leaves");
  CHECK(second.number == 7);
  CHECK(first.camera == second.camera);
  CHECK(first.mapping == second.mapping);
  CHECK(first.camera_timeout == 10s);
  CHECK(second.camera_timeout == 3s);
  CHECK_FALSE(first.quick);
  CHECK(second.quick);
  CHECK(second.order.by == PartOrder::score);
  CHECK(second.robot_from_world.plain().x == first.robot_from_world.plain().x);
}

TEST_CASE("a selected set-up is used from the next picture on, and its report says which it was") {
  const TwoSetUps two;
  Station station(two.file());
  station.begin_dry_run();
  CHECK(station.selected() == 1);
  const auto first = station.next();
  REQUIRE(first);
  CHECK(first->parts.size() == 5);
  REQUIRE(first->setup);
  CHECK(first->setup->number == 1);
  CHECK(station.select(7).taken);
  CHECK(station.selected() == 7);
  CHECK(station.used_set_up().number == 1);  // of the picture in hand
  const auto second = station.next();
  REQUIRE(second);
  CHECK(second->parts.size() == 3);
  CHECK(second->setup->name == "three");
  CHECK(contains(station.sent_text(*second), " SETUP 7\n"));
  const Report read = report_of_json(report_json(*second), "here");
  REQUIRE(read.setup);
  CHECK(read.setup->number == 7);
  CHECK(read.setup->name == "three");
  CHECK(contains(station.select(2).reason, "there is no set-up 2; there are 1 (all leaves), 7 (three)"));
  CHECK(station.selected() == 7);
  Station single(cell().station(cell().text(cell().fixed(), to_robot)));
  CHECK(single.select(1).reason == "this station has only one set-up");
}

TEST_CASE("what changed since it was loaded counts; what does not load leaves the old one running") {
  TwoSetUps two;
  Station station(two.file());
  CHECK(parts_of(station) == 5);
  two.seven += "min_score = 300\n";
  two.write();
  const CommandAnswer broken = station.select(7);
  CHECK_FALSE(broken.taken);
  CHECK(contains(broken.reason, "set-up 7 cannot be used"));
  CHECK(contains(broken.reason, "min score 300"));
  CHECK(station.selected() == 1);
  CHECK(parts_of(station) == 5);
  two.seven = two.one + "max_count = 2\n", two.write();
  CHECK(station.select(7).taken);
  CHECK(parts_of(station) == 2);
  // A file that somebody is writing at this moment does no harm to the others.
  two.seven = "version = 1\n[[target", two.write();
  CHECK(station.select(1).taken);
  CHECK(parts_of(station) == 5);
  CHECK(contains(station.select(7).reason, "seven.toml"));
  two.seven = two.one + "max_count = 4\n[camera]\nrecording = \"elsewhere\"\n", two.write();
  CHECK(contains(station.select(7).reason, "start the station anew"));
  two.seven = two.one + "[camera]\nexposure_ms = 4\n", two.write();
  CHECK(contains(station.select(7).reason, "exposure_ms"));
  two.seven = two.one + "[frame]\nmount = \"arm\"\nflange_from_board = [0, 0, 0]\n", two.write();
  CHECK(contains(station.select(7).reason, "its mount was another one"));
  MappingRecord small = load_mapping(cell().tray.path("mapping.toml"));
  small.width /= 2;
  save_mapping(two.folder / "small.toml", small);
  two.seven = two.one + "[mapping]\nfile = \"small.toml\"\n", two.write();
  const std::string why = station.select(7).reason;
  CHECK_MESSAGE(contains(why, "calibrate anew for this picture size"), why);
  two.seven = two.one + "[drift]\nlight = [9000, 0, 9, 9]\n", two.write();
  CHECK(contains(station.select(7).reason, "lies outside"));
  std::filesystem::remove(two.folder / "seven.toml");
  CHECK(contains(station.select(7).reason, "seven.toml"));
  CHECK(station.selected() == 1);
}

TEST_CASE("set-ups that cannot be told apart, or that leave something open, are refused") {
  TwoSetUps two;
  const auto refused = [&](const std::string& text) {
    return error_of([&] { const Station station(cell().station(text)); });
  };
  const auto changed = [&](const std::string& from, const std::string& to) {
    std::string text = two.text();
    REQUIRE(text.find(from) != std::string::npos);
    return refused(text.replace(text.find(from), from.size(), to));
  };
  CHECK(contains(changed("number = 7", "number = 1"), "that of set-up 'all leaves' already"));
  CHECK(contains(changed("\"three\"", "\"all leaves\""), "that of set-up 1 already"));
  CHECK(contains(changed("number = 7", "number = 0"), "from 1 to 65535"));
  CHECK(contains(changed("number = 7", "number = 7\nstart = true"), "unknown key"));
  CHECK(contains(changed("seven.toml", "eight.toml"), "eight.toml"));
  CHECK(contains(changed("[mapping]\nfile = \"mapping.toml\"\n", ""), "'mapping' is missing"));
  CHECK(contains(refused(two.text(to_robot, "").insert(0, "start = 3\n")), "no set-up has that number"));
  two.seven = two.one + "[link]\nprotocol = \"text\"\n", two.write();
  CHECK(contains(refused(two.text()), "'link' is an unknown key"));
  two.seven = two.one + "[camera]\nexposure_ms = 4\n", two.write();
  CHECK(contains(refused(two.text()), "7 sets exposure_ms of the camera and 1 does not"));
  StationFile file = cell().station(cell().text(cell().fixed(), to_robot));
  file.start = 3;
  CHECK(contains(error_of([&] { const Station station(file); }), "there is no set-up 3; test has only one"));
}

TEST_CASE("a robot selects over the link; what it says after SELECT is meant for the new set-up") {
  const TwoSetUps two;
  const RobotLog asked =
      worked(two.file("connect = \"127.0.0.1:1\"\nmode = \"ask\""), {.asks = true, .setups = {7, 1}});
  CHECK(asked.results == 2);
  CHECK(asked.arrivals.size() == 3 + 5);
  CHECK(asked.refused_lines == 0);
  const RobotLog sent = worked(two.file(), {.setups = {1, 7}});
  CHECK(sent.result_setups == std::vector<int>{1, 7});
  CHECK(sent.arrivals.size() == 5 + 3);
  CHECK(sent.refused_lines == 0);
}

TEST_CASE("a robot is answered when its set-up is ready, or refused, while no picture is taken") {
  const TwoSetUps two;
  const Address free = LineListener({"127.0.0.1", 0}).address();
  Work stop;
  Station station(two.file("listen = \"" + free.text() + "\"\nmode = \"push\"",
                           "[trigger]\nby = \"timer\"\nevery_s = 600\n"),
                  nullptr, &stop);
  std::jthread work([&] {
    station.open_link();
    while (station.step()) {
    }
  });
  RobotLines robot(free, "push");
  CHECK(robot.next("RESULT").find("SETUP 1") != std::string::npos);  // the timer's first
  robot.say("ACK 1"), robot.say("DONE 1");
  CHECK(within(5s, [&] {
    const auto begun = std::chrono::steady_clock::now();
    robot.say("SELECT 7");
    CHECK(robot.next("SELECTED") == "SELECTED 7");
    robot.say("SELECT 4");
    CHECK(contains(robot.next("ERROR"), "there is no set-up 4"));
    robot.say("SELECT 0");
    CHECK(contains(robot.next("ERROR"), "wanted: SELECT setup"));
    return std::chrono::steady_clock::now() - begun;
  }));
  CHECK(station.selected() == 7);
  stop.stop();
}

TEST_CASE("triggers that wait keep the set-up that was selected when they came") {
  const TwoSetUps two;
  support::TemporaryFolder folder;
  Work stop;
  StationFile file =
      two.file(to_robot, "[trigger]\nby = \"command\"\nqueue = 2\n[store]\nfolder = \"" + folder / "store" +
                             "\"\ngive_up_s = \"never\"\n[http]\nlisten = \"127.0.0.1:1\"\n");
  SimulatedRobot robot({.listens = true, .address = {"127.0.0.1", 0}, .time_scale = 1000}, {});
  file.link.address = robot.address();
  std::jthread side([&] { robot.run(); });
  Station station(file, nullptr, &stop);
  station.open_link();
  StationPort& port = station.port();
  CHECK(port.setup()->number == 1);
  CHECK(port.command(StationCommand::trigger).taken);
  CHECK(port.command({StationCommand::select, 7}).taken);
  CHECK(port.command(StationCommand::trigger).taken);
  CHECK(port.setup()->name == "three");
  CHECK_FALSE(port.command({StationCommand::select, 2}).taken);
  CHECK(station.step()->setup->number == 1);
  CHECK(station.step()->setup->number == 7);
  stop.stop();
  station.farewell();
}

TEST_CASE("with a store a station goes on with the set-up that was selected last") {
  TwoSetUps two;
  support::TemporaryFolder folder;
  const std::string store = "[store]\nfolder = \"" + folder / "store" + "\"\ngive_up_s = \"never\"\n";
  StationFile file = two.file("listen = \"127.0.0.1:0\"\nmode = \"ask\"", store);
  file.lines = LineFormat{.line = "{setup}", .ask = "TRIG"};
  const auto opened = [&](bool resume) {
    StationFile again = file;
    again.resume = resume;
    Station station(again);
    station.open_link();
    return station.selected();
  };
  {
    Station station(file);
    station.open_link();
    CHECK(station.selected() == 1);
    CHECK(station.select(7).taken);
  }
  CHECK(opened(true) == 7);
  CHECK(opened(false) == 1);
  two.seven = "broken", two.write();
  file.setups.pop_back();  // it is not there any more
  CHECK(opened(true) == 1);
}

TEST_CASE("the receiver's own lines select and are answered") {
  const TwoSetUps two;
  std::string text = two.text(
      "listen = \"127.0.0.1:0\"\nmode = \"ask\"\nask = \"TRIG\"\nselect = \"JOB {setup}!\"\n"
      "selected = \"JOB OK {setup}\"\nnot_selected = \"JOB NO {setup}\"\nline = \"{setup} {setup_name} "
      "{count}\"");
  text.replace(text.find("protocol = \"text\""), 17, "protocol = \"lines\"");
  Work stop;
  Station station(cell().station(text), nullptr, &stop);
  station.open_link();
  LineSocket receiver = LineSocket::connect(station.link_address(), patience);
  std::jthread work([&] {
    while (station.step()) {
    }
  });
  const auto answer = [&](const std::string& line) {
    REQUIRE(receiver.write(line));
    std::string said;
    REQUIRE(receiver.read(said, patience) == LineSocket::Wait::line);
    return said;
  };
  CHECK(answer("TRIG") == "1 all_leaves 5");
  CHECK(answer("JOB 9!") == "JOB NO 9");
  CHECK(answer("JOB 7!") == "JOB OK 7");
  CHECK(answer("TRIG") == "7 three 3");
  stop.stop();
  CHECK_FALSE(setup_in("JOB 7", "JOB {setup}!"));
  CHECK_FALSE(setup_in("JOB -7!", "JOB {setup}!"));
  CHECK_FALSE(setup_in("JOB 99999999999!", "JOB {setup}!"));
  CHECK_FALSE(setup_in("JOB !", "JOB {setup}!"));
  CHECK(setup_in("07", "{setup}") == 7);
  const auto wrong = [&](LineFormat format) {
    format.line = "{count}";
    return error_of([&] { const LineWriter writer(format); });
  };
  CHECK(contains(wrong({.line = "", .select = "JOB {setup}"}), "mode \"ask\""));
  CHECK(contains(wrong({.line = "", .ask = "T", .select = "JOB"}), "{setup} once"));
  CHECK(contains(wrong({.line = "", .ask = "T", .select = "JOB {setup}"}), "needs selected"));
  CHECK(contains(wrong({.line = "", .ask = "T", .selected = "OK"}), "say with select"));
}
