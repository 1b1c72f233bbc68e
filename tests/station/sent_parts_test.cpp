#include <doctest/doctest.h>

#include <algorithm>

#include "heron/locate/names.hpp"
#include "patience.hpp"
#include "station_cell.hpp"

using namespace station_cell;

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
  const Report report = station.examine(picture, station.file().setup.robot_from_world);
  REQUIRE(report.parts.size() == 5);
  for (const ReportedPart& p : report.parts) {
    // What find shows is what is sent.
    CHECK(p.robot->x_mm == doctest::Approx(p.world->x_mm));
    CHECK(p.robot->y_mm == doctest::Approx(p.world->y_mm));
    CHECK(p.robot->angle.degrees() == doctest::Approx(p.world->angle.degrees()));
    // And that is where the part lies on the board, counted from the user's zero.
    const WorldPose board =
        record.mapping.world_pose({p.detection.x, p.detection.y}, p.detection.angle, exact_pose, 0);
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
    const Report free = first.examine(load_picture(cell().tray.path("tray/tray-01.png")),
                                      first.file().setup.robot_from_world);
    const Detection& leaf = free.parts.at(2).detection;
    const Angle end = leaf.angle + degrees(4.5 * leaf.sigma.angle->degrees());
    text.replace(text.find("file = \"leaf.png\""), 17,
                 "file = \"leaf.png\"\nangle = [" + std::to_string(leaf.angle.degrees() - 20) + ", " +
                     std::to_string(end.degrees()) + "]");
    LineListener robot({"127.0.0.1", 0});
    std::string greeting;
    std::vector<std::string> parts;
    std::jthread side([&] {
      auto socket = robot.accept(patience);
      socket->read(greeting, patience);
      socket->write("ROBOT 2 MODE push");
      std::string line;
      while (socket->read(line, patience) == LineSocket::Wait::line && line != "END 1")
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
                                      [](const ReportedPart& p) { return !p.detection.range_end.empty(); });
    REQUIRE(at_end == 1);
    CHECK(parts.size() == report->parts.size() - (sends_all ? 0 : 1));
    CHECK(std::count_if(parts.begin(), parts.end(),
                        [](const std::string& p) { return p.ends_with(" 0 1"); }) == (sends_all ? 1 : 0));
    for (const ReportedPart& p : report->parts)
      CHECK(p.withheld == (sends_all || p.detection.range_end.empty() ? "" : "near a range's end"));
  }
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
                   {.name = "teal", .geometry = {.grasp = {1, 2, {}}}}));
  std::string text = c.text(c.fixed(), "listen = \"127.0.0.1:0\"\nmode = \"push\"");
  text.insert(text.find("[link]"), "[[target]]\nfile = \"teal.png\"\nmax_count = 1\n");
  Station station(c.station(text));
  const Report report = station.examine(taught, RobotFromWorld(c.robot_from_board));
  REQUIRE(report.parts.size() == 1);  // no leaf among them, and one region as the station's count says
  CHECK(report.parts[0].detection.target == "teal");
  CHECK(report.parts[0].robot);
  CHECK(std::any_of(report.misses.begin(), report.misses.end(),
                    [](const Miss& m) { return m.reasons[0].name == "count"; }));
  // An angle is none of a color's limits.
  text.replace(text.find("max_count = 1"), 13, "angle = [-5, 5]");
  CHECK(support::contains(support::error_of([&] { Station refused(c.station(text)); }), "no limit 'angle'"));
  // A grey picture says what is missing.
  Picture plain;
  plain.pixels = grey;
  CHECK(support::contains(
      support::error_of([&] { station.examine(plain, RobotFromWorld(c.robot_from_board)); }), "is grey"));
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
  settings.time_scale = 1000;
  SimulatedRobot robot(settings, {{{}, {}}});
  file.link.address = robot.address();
  RobotLog log;
  std::jthread side([&] { log = robot.run(); });
  Station station(std::move(file));
  station.open_link();
  const auto whole = station.step(), hidden = station.step();
  while (station.step()) {
  }
  side.join();
  REQUIRE(whole);
  REQUIRE(whole->parts.size() == 1);
  CHECK_FALSE(whole->parts[0].detection.ambiguous);
  REQUIRE(hidden);
  REQUIRE(hidden->parts.size() == 1);
  CHECK(hidden->parts[0].detection.ambiguous);
  CHECK(log.results == 2);
  CHECK(log.arrivals.size() == 1);
}

TEST_CASE("the kind of a failure is the same whatever the numbers in its reason") {
  Report report;
  CHECK(failure_kind(report) == "nothing found");
  report.misses.resize(1);
  report.misses[0].reasons = {{limit::contrast, 5.1, "at least 8"}};
  CHECK(failure_kind(report) == "turned away by contrast");
  report.parts.resize(2);
  CHECK(failure_kind(report).empty());
  report.parts[1].detection.target = "leaf";
  for (const char* reason :
       {"its surface is tilted by 4.5 degrees", "its surface is tilted by 31.2 degrees"}) {
    report.parts[1].withheld = reason;
    CHECK(failure_kind(report) == "leaf withheld: its surface is tilted by");
  }
  report.parts[1].withheld = "it cannot be gripped: the left finger would touch kite";
  CHECK(failure_kind(report) == "leaf withheld: it cannot be gripped");
  report.parts[1].track = PartTrack{.told_in = 3};  // it was sent before: no failure
  CHECK(failure_kind(report).empty());
  Reading reading;
  reading.gauge = "width", reading.state = Verdict::good;
  report.readings.push_back(reading);
  CHECK(failure_kind(report).empty());
  reading.gauge = "bore", reading.state = Verdict::not_measured;
  report.readings.push_back(reading);
  CHECK(failure_kind(report) == "bore: not measured");
  report.unusable = "no table: 3 % of the map was measured";
  CHECK(failure_kind(report) == "unusable");
}
