#include <doctest/doctest.h>

#include "patience.hpp"
#include "sanitized.hpp"
#include "station_cell.hpp"

using namespace station_cell;

namespace {

RobotLog work(StationFile file, RobotSettings settings, const RobotTruth& truth) {
  settings.time_scale = 1000;
  SimulatedRobot robot(settings, truth);
  if (settings.listens) file.link.address = robot.address();
  RobotLog log;
  std::jthread side([&] { log = robot.run(); });
  Station station(std::move(file));
  station.open_link();
  while (station.step()) {
  }
  side.join();
  return log;
}

void check_arrivals(const RobotLog& log, int results) {
  CHECK(log.over);
  CHECK(log.results == results);
  CHECK(log.left_lying == 0);
  CHECK(log.refused_lines == 0);
  for (const Arrival& a : log.arrivals) {
    CHECK(a.matched);
    CHECK(a.off_mm < 0.05);
    CHECK(std::abs(a.off_angle.degrees()) < 0.05);
  }
}

}  // namespace

TEST_CASE("the station sends, and the robot arrives within 0.05 mm of every leaf") {
  const RobotLog log =
      work(cell().station(cell().text(cell().fixed(), "connect = \"127.0.0.1:1\"\nmode = \"push\"")),
           {.listens = true, .address = {"127.0.0.1", 0}}, load_truth(cell().tray.path("truth.json")));
  check_arrivals(log, 2);
  CHECK(log.arrivals.size() == 10);
}

TEST_CASE("the robot asks for each part, and is told when none is left") {
  const RobotLog log =
      work(cell().station(cell().text(cell().fixed(), "connect = \"127.0.0.1:1\"\nmode = \"ask\"")),
           {.listens = true, .address = {"127.0.0.1", 0}, .asks = true},
           load_truth(cell().tray.path("truth.json")));
  check_arrivals(log, 2);
  CHECK(log.arrivals.size() == 10);
}

TEST_CASE("a camera on the arm: the robot's pose comes with its question") {
  // The flange stands where the pictures were taken from: robot_from_part = look * flange_from_table *
  // table_from_part.
  const Pose2 look[] = {{500, 100, 20_deg}, {450, -80, -65_deg}};
  const Pose2 flange_from_table{12, -7, 33_deg};
  const render::TrayStation& s = cell().tray.station;
  RobotTruth truth = load_truth(cell().tray.path("truth.json"));
  for (size_t i = 0; i < 2; ++i)
    for (TruePart& part : truth.pictures[i])
      part.robot_from_part =
          look[i] * flange_from_table * (s.robot_from_table.inverse() * part.robot_from_part);
  const Pose2 flange_from_board = flange_from_table * s.table_from_board;
  const std::string frame = "mount = \"arm\"\nflange_from_board = [" + std::to_string(flange_from_board.x) +
                            ", " + std::to_string(flange_from_board.y) + ", " +
                            std::to_string(flange_from_board.angle.degrees()) + "]";
  const StationFile file = cell().station(cell().text(frame, "connect = \"127.0.0.1:1\"\nmode = \"ask\""));
  check_arrivals(
      work(file, {.listens = true, .address = {"127.0.0.1", 0}, .asks = true, .looks = {look[0], look[1]}},
           truth),
      2);
  // Without a pose there is no answer, and the robot is told why.
  const int slow = sanitized ? 20 : 4;
  SimulatedRobot mute({.listens = true, .address = {"127.0.0.1", 0}, .asks = true, .timeout = 500ms * slow},
                      {});
  StationFile asked = file;
  asked.link.address = mute.address();
  asked.link.timeout = 300ms * slow, asked.link.finish = 500ms * slow;
  RobotLog log;
  std::jthread side([&] { log = mute.run(); });
  Station station(std::move(asked));
  station.open_link();
  CHECK_THROWS_AS(station.step(), Error);
  side.join();
  CHECK(log.refused_lines == 5);
}

TEST_CASE("the station may be the one that listens") {
  uint16_t port = 0;
  { port = LineListener({"127.0.0.1", 0}).address().port; }
  const std::string address = "127.0.0.1:" + std::to_string(port);
  const RobotLog log = work(
      cell().station(cell().text(cell().fixed(), "listen = \"" + address + "\"\nmode = \"push\"")),
      {.listens = false, .address = Address::parse(address)}, load_truth(cell().tray.path("truth.json")));
  check_arrivals(log, 2);
}

TEST_CASE("the robot knows when it was sent astray") {
  StationFile file =
      cell().station(cell().text(cell().fixed(), "connect = \"127.0.0.1:1\"\nmode = \"push\""));
  file.setup.robot_from_world.x += 3;  // somebody moved the board after it was touched
  const RobotLog log =
      work(file, {.listens = true, .address = {"127.0.0.1", 0}}, load_truth(cell().tray.path("truth.json")));
  for (const Arrival& a : log.arrivals) CHECK(a.off_mm == doctest::Approx(3).epsilon(0.02));
}

TEST_CASE("a robot that goes away in the middle: the station says which result was not taken") {
  LineListener robot({"127.0.0.1", 0});
  std::jthread side([&] {
    auto socket = robot.accept(patience);
    socket->write("ROBOT 2 MODE push");
    std::string line;
    while (socket->read(line, patience) == LineSocket::Wait::line && !line.starts_with("END")) {
    }
    socket->write("ACK 1");
    socket->write("DONE 1");
    while (socket->read(line, patience) == LineSocket::Wait::line && !line.starts_with("RESULT 2")) {
    }
    const LineListener closed = std::move(robot);
  });
  StationFile file = cell().station(
      cell().text(cell().fixed(), "connect = \"127.0.0.1:1\"\nmode = \"push\"\ntimeout_s = 2"));
  file.link.address = robot.address();
  Station station(std::move(file));
  station.open_link();
  CHECK(station.step());
  CHECK(station.unfinished() == 0);
  CHECK_THROWS_AS(station.step(), Error);
  side.join();
}

TEST_CASE("a robot that acknowledges and never reports DONE is told, and does not stop the work") {
  LineListener robot({"127.0.0.1", 0});
  std::jthread side([&] {
    auto socket = robot.accept(patience);
    socket->write("ROBOT 2 MODE push");
    std::string line;
    while (socket->read(line, patience) == LineSocket::Wait::line && line != "END-OF-RESULTS 2")
      if (line.starts_with("END ")) socket->write("ACK " + line.substr(4));
  });
  StationFile file = cell().station(
      cell().text(cell().fixed(), "connect = \"127.0.0.1:1\"\nmode = \"push\"\nfinish_s = 0.2"));
  file.link.address = robot.address();
  Station station(std::move(file));
  station.open_link();
  int results = 0;
  while (station.step()) ++results;
  side.join();
  CHECK(results == 2);
  CHECK(station.unfinished() == 2);
}

namespace {

/// A camera of which the first takes fail, as one 404 or one lost packet does.
class FailingCamera : public Camera {
 public:
  FailingCamera(std::unique_ptr<Camera> camera, int failures, ErrorCode code = ErrorCode::no_connection)
      : camera_(std::move(camera)), failures_(failures), code_(code) {}
  CameraInfo info() const override { return camera_->info(); }
  std::optional<Picture> take() override {
    if (failures_-- > 0) throw Error(code_, "the camera stuttered");
    return camera_->take();
  }

 private:
  std::unique_ptr<Camera> camera_;
  int failures_;
  ErrorCode code_;
};

}  // namespace

TEST_CASE(
    "a camera that fails for a moment is tried again; one that stays away ends the station, and the robot "
    "is told") {
  for (const int failures : {3, 1000}) {
    StationFile file =
        cell().station(cell().text(cell().fixed(), "connect = \"127.0.0.1:1\"\nmode = \"push\""));
    file.setup.camera_timeout = 2s;
    SimulatedRobot robot({.address = {"127.0.0.1", 0}, .time_scale = 1000},
                         load_truth(cell().tray.path("truth.json")));
    file.link.address = robot.address();
    RobotLog log;
    std::jthread side([&] { log = robot.run(); });
    Station station(std::move(file),
                    std::make_unique<FailingCamera>(open_recording(cell().tray.path("tray")), failures));
    station.open_link();
    if (failures < 10) {
      while (station.step()) {
      }
      CHECK(station.camera_failures() == failures);
    } else {
      CHECK_THROWS_WITH_AS(station.step(), doctest::Contains("stuttered"), Error);
    }
    side.join();
    CHECK(log.over);
    CHECK(log.results == (failures < 10 ? 2 : 0));
  }
  // What trying again cannot mend ends at once.
  StationFile file =
      cell().station(cell().text(cell().fixed(), "connect = \"127.0.0.1:1\"\nmode = \"push\""));
  SimulatedRobot robot({.address = {"127.0.0.1", 0}}, {});
  file.link.address = robot.address();
  std::jthread side([&] { robot.run(); });
  Station station(std::move(file), std::make_unique<FailingCamera>(open_recording(cell().tray.path("tray")),
                                                                   1, ErrorCode::bad_file));
  station.open_link();
  CHECK_THROWS_AS(station.step(), Error);
  CHECK(station.camera_failures() == 0);
  side.join();
}

TEST_CASE("a station stops within half a second, tells the robot, and leaves no result untold") {
  const auto stopped = [](const std::string& mode) {
    StationFile file =
        cell().station(cell().text(cell().fixed(), "connect = \"127.0.0.1:1\"\nmode = \"" + mode + "\""));
    LineListener robot({"127.0.0.1", 0});
    file.link.address = robot.address();
    std::string end;
    std::atomic<bool> acknowledged = mode == "ask";
    std::jthread side([&] {
      auto socket = robot.accept(patience);
      socket->write("ROBOT 2 MODE " + mode);
      while (socket->read(end, patience) == LineSocket::Wait::line && !end.starts_with("END-OF-RESULTS")) {
        if (end == "END 1") socket->write("ACK 1"), acknowledged = true;  // and then it never gets done
      }
    });
    Work stop;
    Station station(std::move(file), nullptr, &stop);
    station.open_link();
    std::chrono::steady_clock::time_point asked;
    std::thread stopper([&] {
      while (!acknowledged) std::this_thread::sleep_for(10ms);
      std::this_thread::sleep_for(800ms);
      asked = std::chrono::steady_clock::now();
      stop.stop();
    });
    while (station.step()) {
    }
    const auto ended = std::chrono::steady_clock::now();
    stopper.join();
    side.join();
    CHECK(end == (mode == "push" ? "END-OF-RESULTS 1" : "END-OF-RESULTS 0"));
    return ended - asked;
  };
  for (const char* mode : {"push", "ask"})
    CHECK(within(sanitized ? 2200ms : 900ms, [&] { return stopped(mode); }));
}
