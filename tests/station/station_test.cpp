#include <doctest/doctest.h>

#include <thread>

#include "heron/calibrate/plane.hpp"
#include "heron/files/csv_file.hpp"
#include "heron/files/mapping_file.hpp"
#include "heron/files/picture_file.hpp"
#include "heron/files/recording.hpp"
#include "heron/files/target_file.hpp"
#include "heron/geometry/rigid_fit.hpp"
#include "heron/render/studio_views.hpp"
#include "heron/standin/simulated_robot.hpp"
#include "heron/standin/tray_cell.hpp"
#include "heron/station/station.hpp"
#include "mutate.hpp"
#include "sanitized.hpp"
#include "support.hpp"

using namespace heron;
using namespace std::chrono_literals;

namespace {

/// One simulated cell, rendered and calibrated once for all tests of this file.
struct Cell {
  support::TemporaryFolder folder;
  TrayCell tray = write_tray_cell(folder / "cell", 3, {.views = 2});
  Pose2 robot_from_board;

  Cell() {
    MappingRecord record;
    const Image<uint8_t> board = grey_levels(load_picture(tray.path("board.png")));
    const BoardSeen seen = find_board(board, tray.station.board);
    record = record_of(
        calibrate_plane(seen.points, tray.station.board, seen.dot_radius_px, board.width(), board.height()));
    record.board = tray.station.board, record.width = board.width(), record.height = board.height();
    record.date = "2026-01-01T00:00:00Z";
    save_mapping(tray.path("mapping.toml"), record);
    save_target(tray.path("leaf.png"), teach_pattern(grey_levels(load_picture(tray.path("teach.png"))),
                                                     Region::rectangle(tray.teach_region), {.name = "leaf"}));
    std::vector<Point2> from, to;
    for (const auto& row : load_csv(tray.path("touched.csv"), {"board_x", "board_y", "robot_x", "robot_y"}))
      from.push_back({row[0], row[1]}), to.push_back({row[2], row[3]});
    robot_from_board = fit_rigid(from, to).target_from_source;
  }

  std::string text(const std::string& frame, const std::string& link) const {
    return "version = 1\nname = \"test\"\n[camera]\nrecording = \"tray\"\n[mapping]\nfile = "
           "\"mapping.toml\"\n[frame]\n" +
           frame + "\n[[target]]\nfile = \"leaf.png\"\n[link]\nprotocol = \"text\"\n" + link + "\n";
  }
  std::string fixed() const {
    return "mount = \"fixed\"\nrobot_from_board = [" + std::to_string(robot_from_board.x) + ", " +
           std::to_string(robot_from_board.y) + ", " + std::to_string(robot_from_board.angle.degrees()) + "]";
  }
  StationFile station(const std::string& content) const {
    support::write_text(tray.path("s.toml"), content);
    return load_station(tray.path("s.toml"));
  }
};

Cell& cell() {
  static Cell shared;
  return shared;
}

RobotLog work(StationFile file, RobotSettings settings, const RobotTruth& truth) {
  settings.hurry = 1000;
  SimulatedRobot robot(settings, truth);
  if (settings.listens) file.link.address = robot.address();
  RobotLog log;
  std::thread side([&] { log = robot.run(); });
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
  SimulatedRobot mute({.listens = true, .address = {"127.0.0.1", 0}, .asks = true, .patience = 500ms}, {});
  StationFile asked = file;
  asked.link.address = mute.address();
  asked.link.patience = 300ms, asked.link.finish = 500ms;
  RobotLog log;
  std::thread side([&] { log = mute.run(); });
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
  file.frame.x += 3;  // somebody moved the board after it was touched
  const RobotLog log =
      work(file, {.listens = true, .address = {"127.0.0.1", 0}}, load_truth(cell().tray.path("truth.json")));
  for (const Arrival& a : log.arrivals) CHECK(a.off_mm == doctest::Approx(3).epsilon(0.02));
}

TEST_CASE("a robot that goes away in the middle: the station says which result was not taken") {
  LineListener robot({"127.0.0.1", 0});
  std::thread side([&] {
    auto socket = robot.accept(2000ms);
    socket->write("ROBOT 2 MODE push");
    std::string line;
    while (socket->read(line, 3000ms) == LineSocket::Wait::line && !line.starts_with("END")) {
    }
    socket->write("ACK 1");
    socket->write("DONE 1");
    while (socket->read(line, 3000ms) == LineSocket::Wait::line && !line.starts_with("RESULT 2")) {
    }
    const LineListener closed = std::move(robot);
  });
  StationFile file = cell().station(cell().text(
      cell().fixed(), "connect = \"127.0.0.1:1\"\nmode = \"push\"\npatience_s = 0.3\nacknowledge_s = 0.3"));
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
  std::thread side([&] {
    auto socket = robot.accept(2000ms);
    socket->write("ROBOT 2 MODE push");
    std::string line;
    while (socket->read(line, 3000ms) == LineSocket::Wait::line && line != "END-OF-RESULTS 2")
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
    file.camera_patience = 2s;
    SimulatedRobot robot({.address = {"127.0.0.1", 0}, .hurry = 1000},
                         load_truth(cell().tray.path("truth.json")));
    file.link.address = robot.address();
    RobotLog log;
    std::thread side([&] { log = robot.run(); });
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
  std::thread side([&] { robot.run(); });
  Station station(std::move(file), std::make_unique<FailingCamera>(open_recording(cell().tray.path("tray")),
                                                                   1, ErrorCode::bad_file));
  station.open_link();
  CHECK_THROWS_AS(station.step(), Error);
  CHECK(station.camera_failures() == 0);
  side.join();
}

TEST_CASE("what does not fit together is refused before anything is connected") {
  const std::string text = cell().text(cell().fixed(), "connect = \"127.0.0.1:1\"\nmode = \"push\"");
  const auto refusal = [&](const std::string& from, const std::string& to) {
    std::string changed = text;
    REQUIRE(changed.find(from) != std::string::npos);
    changed.replace(changed.find(from), from.size(), to);
    return support::error_of([&] { const Station station(cell().station(changed)); });
  };
  CHECK(support::contains(refusal("file = \"leaf.png\"", "file = \"leaf.png\"\nleast_score = 300"),
                          "leaf.png: least score 300 must be"));
  CHECK(support::contains(refusal("file = \"leaf.png\"", "file = \"leaf.png\"\nscale = [0.01, 2]"),
                          "must lie within 0.1..10"));
  CHECK(support::contains(refusal("[link]", "[link]\nfields = [\"x\", \"speed\"]"),
                          "'speed'; it may hold x, y"));
  CHECK(support::contains(refusal("[link]", "[link]\nfields = [\"x\", \"x\"]"), "twice"));
  CHECK(
      support::contains(refusal("[link]", "[link]\nwithhold = [\"late\"]"), "'late'; it may hold ambiguous"));
  CHECK(support::contains(refusal("[link]", "[link]\ntoken = \"a b\""), "without a space"));
  CHECK(support::contains(refusal("[link]", "[link]\nallowed = [\"10.0.0.1\"]"), "connects by itself"));
  CHECK(support::contains(refusal("robot_from_board = [", "robot_from_board = [1e7, 0, 0]\n#"),
                          "within 1e+06 mm"));
  CHECK(support::contains(refusal("robot_from_board", "robot_from_axes"), "no zero and axes"));
  // Pictures of another size than the mapping's.
  Recording small{cell().tray.path("small"), {{"a.png"}}};
  std::filesystem::create_directories(small.folder);
  save_picture(small.path(0), Image<uint8_t>(64, 48).view());
  save_recording(small);
  CHECK(support::contains(refusal("\"tray\"", "\"small\""), "calibrate anew"));
}

TEST_CASE("the user's zero and axes apply to what is sent when the frame starts from them") {
  MappingRecord record = load_mapping(cell().tray.path("mapping.toml"));
  // Left-handed: X to the board's +Y, Y to its +X.
  record.axes = Axes{{30, -20}, AxisDirection::plus_y, AxisDirection::plus_x};
  save_mapping(cell().tray.path("axes.toml"), record);
  std::string text = cell().text("mount = \"fixed\"\nrobot_from_axes = [0, 0, 0]",
                                 "connect = \"127.0.0.1:1\"\nmode = \"push\"");
  text.replace(text.find("mapping.toml"), 12, "axes.toml");
  Station station(cell().station(text));
  const Picture picture = load_picture(cell().tray.path("tray/tray-01.png"));
  const Report report = station.examine(picture, station.file().frame);
  REQUIRE(report.parts.size() == 5);
  for (const ReportedPart& p : report.parts) {
    // What find shows is what is sent.
    CHECK(p.robot->x_mm == doctest::Approx(p.world->x_mm));
    CHECK(p.robot->y_mm == doctest::Approx(p.world->y_mm));
    CHECK(p.robot->angle.degrees() == doctest::Approx(p.world->angle.degrees()));
    // And that is where the part lies on the board, counted from the user's zero.
    const WorldPose board = record.mapping.world_pose({p.sighting.x, p.sighting.y}, p.sighting.angle, {}, 0);
    CHECK(p.robot->x_mm == doctest::Approx(board.y_mm + 20));
    CHECK(p.robot->y_mm == doctest::Approx(board.x_mm - 30));
  }
}

TEST_CASE("sigma, z and flags are told when the station's file says so, and what is withheld is its choice") {
  const std::string link =
      "connect = \"127.0.0.1:1\"\nmode = \"push\"\nfields = [\"x\", \"y\", \"z\", "
      "\"sigma_x\", \"sigma_angle\", \"ambiguous\", \"range_end\"]\n";
  for (const bool sends_all : {false, true}) {
    // The range ends within six sigmas of where one leaf lies.
    std::string text =
        cell().text(cell().fixed(), link + (sends_all ? "withhold = []" : "withhold = [\"range_end\"]"));
    Station first(cell().station(text));
    const Report free = first.examine(load_picture(cell().tray.path("tray/tray-01.png")), first.file().frame);
    const Sighting& leaf = free.parts.at(2).sighting;
    const Angle end = leaf.angle + degrees(4.5 * leaf.sigma.angle.degrees());
    text.replace(text.find("file = \"leaf.png\""), 17,
                 "file = \"leaf.png\"\nangle = [" + std::to_string(leaf.angle.degrees() - 20) + ", " +
                     std::to_string(end.degrees()) + "]");
    LineListener robot({"127.0.0.1", 0});
    std::string greeting;
    std::vector<std::string> parts;
    std::thread side([&] {
      auto socket = robot.accept(2000ms);
      socket->read(greeting, 1000ms);
      socket->write("ROBOT 2 MODE push");
      std::string line;
      while (socket->read(line, 3000ms) == LineSocket::Wait::line && line != "END 1")
        if (line.starts_with("PART")) parts.push_back(line);
      socket->write("ACK 1\nDONE 1");
    });
    StationFile file = cell().station(text);
    file.link.address = robot.address();
    Station station(std::move(file));
    station.open_link();
    const auto report = station.step();
    side.join();
    REQUIRE(report);
    CHECK(greeting.ends_with("FIELDS x y z sigma_x sigma_angle ambiguous range_end"));
    const auto at_end = std::count_if(report->parts.begin(), report->parts.end(),
                                      [](const ReportedPart& p) { return !p.sighting.range_end.empty(); });
    REQUIRE(at_end == 1);
    CHECK(parts.size() == report->parts.size() - (sends_all ? 0 : 1));
    CHECK(std::count_if(parts.begin(), parts.end(),
                        [](const std::string& p) { return p.ends_with(" 0 1"); }) == (sends_all ? 1 : 0));
    for (const ReportedPart& p : report->parts)
      CHECK(p.withheld == (sends_all || p.sighting.range_end.empty() ? "" : "near a range's end"));
  }
}

TEST_CASE("a station stops within half a second, tells the robot, and leaves no result untold") {
  for (const char* mode : {"push", "ask"}) {
    StationFile file = cell().station(
        cell().text(cell().fixed(), "connect = \"127.0.0.1:1\"\nmode = \"" + std::string(mode) + "\""));
    LineListener robot({"127.0.0.1", 0});
    file.link.address = robot.address();
    std::string end;
    std::thread side([&] {
      auto socket = robot.accept(2000ms);
      socket->write("ROBOT 2 MODE " + std::string(mode));
      while (socket->read(end, 5000ms) == LineSocket::Wait::line && !end.starts_with("END-OF-RESULTS")) {
        if (end == "END 1") socket->write("ACK 1");  // and then it never gets done
      }
    });
    Work stop;
    Station station(std::move(file), nullptr, &stop);
    station.open_link();
    std::thread stopper([&] {
      std::this_thread::sleep_for(800ms);
      stop.stop();
    });
    const auto begun = std::chrono::steady_clock::now();
    while (station.step()) {
    }
    CHECK(std::chrono::steady_clock::now() - begun < 3000ms);
    stopper.join();
    side.join();
    CHECK(end == (mode == std::string("push") ? "END-OF-RESULTS 1" : "END-OF-RESULTS 0"));
  }
}

TEST_CASE("mistakes in a station file are named with line and column") {
  const auto error_of = [](const std::string& text) -> std::string {
    try {
      cell().station(text);
    } catch (const Error& error) {
      return error.what();
    }
    return "no error";
  };
  const std::string good = cell().text(cell().fixed(), "connect = \"127.0.0.1:5017\"\nmode = \"push\"");
  const auto changed = [&](const std::string& from, const std::string& to) {
    std::string text = good;
    REQUIRE(text.find(from) != std::string::npos);
    return error_of(text.replace(text.find(from), from.size(), to));
  };
  const auto says = [](const std::string& message, const std::string& part) {
    CHECK_MESSAGE(message.find(part) != std::string::npos, message);
  };
  CHECK(error_of(good) == "no error");
  says(changed("[mapping]", "[maping]"), "'mapping' is missing");
  says(changed("mode = \"push\"", "mode = \"push\"\nmod = 1"), "unknown key 'mod'; did you mean 'mode'?");
  says(changed("mode = \"push\"", "mode = \"pull\""), "it may be \"push\" or \"ask\"");
  says(changed("version = 1", "version = \"1\""),
       "s.toml:1:11: 'version' must be a whole number; a text stands there");
  says(changed("version = 1", "version = 2"), "this program reads version 1");
  says(changed("127.0.0.1:5017", "127.0.0.1"), "is no address");
  says(changed("connect =", "listen = \"127.0.0.1:0\"\nconnect ="), "either 'connect' or 'listen'");
  says(changed("mount = \"fixed\"", "mount = \"arm\""), "'flange_from_board' is missing");
  says(changed("file = \"leaf.png\"", "file = \"leaf.png\"\nangle = [30, -30]"), "the ends are swapped");
  says(changed("file = \"leaf.png\"", "file = \"leaf.png\"\nsearch = [0, 0, 0, 5]"), "positive W and H");
  says(changed("mode = \"push\"", "mode = \"push\"\npatience_s = -1"), "above 0");
}

TEST_CASE("a mapping into the robot's own frame needs no other frame, and says so") {
  MappingRecord record = load_mapping(cell().tray.path("mapping.toml"));
  record.world = "robot";
  save_mapping(cell().tray.path("robot.toml"), record);
  const auto with = [&](const std::string& frame, const std::string& mode) {
    std::string text = cell().text(frame, "listen = \"127.0.0.1:0\"\nmode = \"" + mode + "\"");
    text.replace(text.find("mapping.toml"), 12, "robot.toml");
    return support::error_of([&] { Station station(cell().station(text)); });
  };
  CHECK(support::contains(with("mount = \"fixed\"\nrobot_from_board = [5, 0, 0]", "push"), "[0, 0, 0]"));
  CHECK(support::contains(with("mount = \"arm\"\nflange_from_board = [0, 0, 0]", "ask"), "\"fixed\""));
  CHECK(with("mount = \"fixed\"\nrobot_from_board = [0, 0, 0]", "push").empty());
}

TEST_CASE("a picture of another size than the mapping's is refused") {
  Station station(cell().station(cell().text(cell().fixed(), "connect = \"127.0.0.1:1\"\nmode = \"push\"")));
  Picture small;
  small.pixels = Image<uint8_t>(640, 512);
  CHECK_THROWS_WITH_AS(station.examine(small, {}), doctest::Contains("calibrate anew"), Error);
  CHECK_THROWS_WITH_AS(station.step(), doctest::Contains("open_link"), Error);
}

TEST_CASE("mutated station files are refused or read, never worse") {
  const std::string good = cell().text(cell().fixed(), "listen = \"127.0.0.1:0\"\nmode = \"push\"");
  render::Random random(8);
  int refused = 0;
  const int rounds = sanitized ? 200 : 3000;
  for (int i = 0; i < rounds; ++i) {
    const std::string why = support::error_of([&] { cell().station(support::mutated(good, random)); });
    refused += !why.empty();
  }
  CHECK(refused > rounds / 2);
}

TEST_CASE("a target of a height map is refused by a station, which looks at pictures") {
  const PatternTarget relief = teach_pattern(grey_levels(load_picture(cell().tray.path("teach.png"))),
                                             Region::rectangle(cell().tray.teach_region),
                                             {.height_step_mm = 0.05, .limits = {.least_contrast = 0.4}});
  save_target(cell().tray.path("relief.png"), relief);
  StationFile file =
      cell().station(cell().text(cell().fixed(), "connect = \"127.0.0.1:1\"\nmode = \"push\""));
  file.targets[0].file = cell().tray.path("relief.png");
  CHECK(
      support::contains(support::error_of([&] { const Station refused{file}; }), "taught from a height map"));
}

TEST_CASE("a station finds targets of several kinds in one color picture, each once, in the robot's frame") {
  Cell& c = cell();
  render::Random random(5);
  const render::StudioView view = render::glazed_tiles(random, {.parts = 2, .turned = 0});
  const Picture taught = render::picture_of(view, random);
  const Image<Rgb>& color = std::get<Image<Rgb>>(taught.pixels);
  const Image<uint8_t> grey = grey_levels(taught);
  const Point2 part = view.parts[0].pixel;
  save_target(
      c.tray.path("teal.png"),
      teach_target("color", {.grey = grey, .color = color, .region = Region::rectangle(part, 30, 30, {})},
                   {.name = "teal", .place = {.grasp = {1, 2, {}}}}));
  std::string text = c.text(c.fixed(), "listen = \"127.0.0.1:0\"\nmode = \"push\"");
  text.insert(text.find("[link]"), "[[target]]\nfile = \"teal.png\"\ncount = 1\n");
  Station station(c.station(text));
  const Report report = station.examine(taught, c.robot_from_board);
  REQUIRE(report.parts.size() == 1);  // no leaf among them, and one region as the station's count says
  CHECK(report.parts[0].sighting.target == "teal");
  CHECK(report.parts[0].robot);
  CHECK(std::any_of(report.misses.begin(), report.misses.end(),
                    [](const Miss& m) { return m.limits[0].name == "count"; }));
  // An angle is none of a color's limits.
  text.replace(text.find("count = 1"), 9, "angle = [-5, 5]");
  CHECK(support::contains(support::error_of([&] { Station refused(c.station(text)); }), "no limit 'angle'"));
  // A grey picture says what is missing.
  Picture plain;
  plain.pixels = grey;
  CHECK(support::contains(support::error_of([&] { station.examine(plain, c.robot_from_board); }), "is grey"));
}

TEST_CASE("a part that may lie in another pose as well is in the report, and the robot is not sent to it") {
  // A hexagon with a notch, of which a strip hides the notch: any of six turns explains what is left.
  const auto picture = [](bool covered) {
    render::Scene scene = cell().tray.station.teach.scene;
    const Pose2 at{-10, 5, 12_deg};
    scene.pieces = {{render::hexagon(18), at, 0.7}, {render::rectangle(5, 5, {5, 14}), at, 0.2}};
    if (covered) scene.pieces.push_back({render::rectangle(60, 20, {0, 17}), at, 0.2});
    render::Random random(77);
    return render::expose(render::exact_picture(scene), {.sigma = 2}, random);
  };
  const Point2 middle = cell().tray.station.camera.project({-10, 5, 0});
  save_target(cell().tray.path("nut.png"),
              teach_pattern(picture(false), Region::rectangle(middle, 180, 180, {}), {.name = "nut"}));
  Recording recording{cell().tray.path("nuts"), {{"nut.png"}, {"hidden.png"}}};
  std::filesystem::create_directories(recording.folder);
  save_picture(recording.path(0), picture(false).view());
  save_picture(recording.path(1), picture(true).view());
  save_recording(recording);
  std::string text = cell().text(cell().fixed(), "connect = \"127.0.0.1:1\"\nmode = \"push\"");
  text.replace(text.find("\"tray\""), 6, "\"nuts\"");
  text.replace(text.find("leaf.png"), 8, "nut.png");
  StationFile file = cell().station(text);
  RobotSettings settings;
  settings.hurry = 1000;
  SimulatedRobot robot(settings, {{{}, {}}});
  file.link.address = robot.address();
  RobotLog log;
  std::thread side([&] { log = robot.run(); });
  Station station(std::move(file));
  station.open_link();
  const auto whole = station.step(), hidden = station.step();
  while (station.step()) {
  }
  side.join();
  REQUIRE(whole);
  REQUIRE(whole->parts.size() == 1);
  CHECK_FALSE(whole->parts[0].sighting.ambiguous);
  REQUIRE(hidden);
  REQUIRE(hidden->parts.size() == 1);
  CHECK(hidden->parts[0].sighting.ambiguous);
  CHECK(log.results == 2);
  CHECK(log.arrivals.size() == 1);
}
