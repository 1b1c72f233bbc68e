// A station that waits for parts. Truth is the renderer's: leaves that ride on a belt under a camera straight
// above it.
#include <doctest/doctest.h>

#include "heron/files/report_json.hpp"
#include "station_cell.hpp"

using namespace station_cell;
using namespace heron::render;
using support::contains;
using support::error_of;

namespace {

constexpr int belt_width = 800, belt_height = 300;
constexpr double speed = 100, step_s = 0.05;  // millimetres a second, and from picture to picture
const Angle turned = 35_deg;                  // of the table in the robot's frame

/// Where a leaf is at the time 0, on a belt that runs along +X.
struct Rider {
  Point2 at;
  Angle angle = {};
};

/// A belt of 200 x 75 mm, of whose riders the camera sees what is within.
struct Belt {
  support::TemporaryFolder folder;

  Belt() {
    save_mapping(folder / "mapping.toml", flat_mapping(belt_width, belt_height));
    save_target(folder / "leaf.png",
                teach_pattern(view({{{0, 0}}}, 0), Region::rectangle({300, 75, 200, 150}),
                              {.name = "leaf", .origin = Point2{399.5, 149.5}}));
  }
  static Image<uint8_t> view(const std::vector<Rider>& riders, double at_s) {
    std::vector<Piece> pieces;
    for (const Rider& r : riders)
      for (const Piece& p : tile_pieces("leaf", {r.at.x + speed * at_s, r.at.y, r.angle}, 0.62))
        pieces.push_back(p);
    return seen_from_above(belt_width, belt_height, std::move(pieces), static_cast<uint64_t>(at_s * 1000));
  }
  /// Records `pictures` of the riders; those whose numbers are `blind` without any.
  void record(const std::vector<Rider>& riders, int pictures, bool timed,
              const std::set<int>& blind = {}) const {
    std::filesystem::remove_all(folder / "belt");
    std::filesystem::create_directory(folder / "belt");
    Recording recording{folder / "belt", {}};
    for (int i = 0; i < pictures; ++i) {
      const std::string name = std::to_string(i) + ".png";
      save_picture(folder / ("belt/" + name),
                   view(blind.contains(i) ? std::vector<Rider>{} : riders, step_s * i).view());
      recording.pictures.push_back({name, step_s * i});
    }
    if (timed) save_recording(recording);
  }
  std::string text(const std::string& trigger, const std::string& link = "mode = \"push\"\n") const {
    return "version = 1\nquick = true\nname = \"belt\"\n[camera]\nrecording = \"belt\"\n[mapping]\nfile = "
           "\"mapping.toml\"\n"
           "[frame]\nmount = \"fixed\"\nrobot_from_board = [500, -100, 35]\n[[target]]\nfile = \"leaf.png\"\n"
           "[trigger]\nby = \"arrival\"\n" +
           trigger + "[link]\nprotocol = \"text\"\nconnect = \"127.0.0.1:1\"\n" + link;
  }
  StationFile file(const std::string& text) const {
    support::write_text(folder / "s.toml", text);
    return load_station(folder / "s.toml");
  }
  std::vector<Report> run(const std::string& trigger) const {
    Station station(file(text(trigger)));
    station.begin_dry_run();
    std::vector<Report> reports;
    while (auto report = station.next()) reports.push_back(std::move(*report));
    return reports;
  }
};

const Belt& belt() {
  static const Belt shared;
  return shared;
}

std::vector<int> sent_tracks(const Report& report) {
  std::vector<int> tracks;
  for (const ReportedPart& p : report.parts)
    if (p.withheld.empty()) tracks.push_back(p.track->identity);
  std::sort(tracks.begin(), tracks.end());
  return tracks;
}
using Tracks = std::vector<int>;

}  // namespace

TEST_CASE("each part that rides into view is sent once, with where it is and how fast it goes") {
  // Whole in view between -77 and +77 mm. The second comes half a second after the first, two at once later.
  belt().record({{{-110, 0}}, {{-160, 5}, 20_deg}, {{-250, 18}}, {{-250, -18}}}, 60, true);
  const auto reports = belt().run("");
  REQUIRE(reports.size() == 3);
  CHECK(sent_tracks(reports[0]) == Tracks{1});
  CHECK(sent_tracks(reports[1]) == Tracks{2});
  CHECK(sent_tracks(reports[2]) == Tracks{3, 4});
  for (size_t i = 0; i < 3; ++i) CHECK(reports[i].number == i + 1);
  REQUIRE(reports[1].parts.size() == 2);
  for (const ReportedPart& p : reports[1].parts)
    if (p.track->identity == 1) {
      CHECK(p.withheld == "it was sent in result 1");
      CHECK(p.track->told_in == 1);
    }
  for (const Report& r : reports)
    for (const ReportedPart& p : r.parts) {
      REQUIRE(p.track->velocity);
      CHECK(std::abs(p.track->velocity->x - speed * cos(turned)) < 1);
      CHECK(std::abs(p.track->velocity->y - speed * sin(turned)) < 1);
      CHECK(p.track->sigma->x < 1);
    }
  CHECK_FALSE(is_bad(reports[1]));  // what was sent before is no defect
  const Report read = report_of_json(report_json(reports[1]), "here");
  for (size_t i = 0; i < 2; ++i) {
    CHECK(read.parts[i].track->told_in == reports[1].parts[i].track->told_in);
    CHECK(read.parts[i].track->velocity->x == doctest::Approx(reports[1].parts[i].track->velocity->x));
    CHECK(read.parts[i].track->sigma->y == doctest::Approx(reports[1].parts[i].track->sigma->y));
  }
}

TEST_CASE("a part is waited for until it is steady, apart in time and apart in place") {
  belt().record({{{-110, 0}}, {{-160, 5}}, {{-210, -5}}}, 60, true);
  CHECK(belt().run("steady = 1\n").size() == 3);
  const auto first_x = [](const Report& r) { return r.parts.at(0).world->x_mm; };
  // Four pictures more are four times five millimetres.
  CHECK(first_x(belt().run("steady = 5\n").at(0)) - first_x(belt().run("steady = 1\n").at(0)) ==
        doctest::Approx(20).epsilon(0.01));
  // Half a second lies between two of them; with 0.8 s the second waits, and leaves after two seconds alone.
  const auto slow = belt().run("apart_s = 0.8\n");
  REQUIRE(slow.size() == 3);
  CHECK(sent_tracks(slow[1]) == Tracks{2});
  CHECK(sent_tracks(slow[2]) == Tracks{3});
  // 50 mm between them; with 60 the second counts only when the first has left the view.
  const auto far = belt().run("apart_mm = 60\n");
  REQUIRE(far.size() >= 2);
  CHECK(sent_tracks(far[1]) == Tracks{2});
  for (const ReportedPart& p : far[1].parts)
    if (p.track->identity == 3) CHECK(contains(p.withheld, "mm from one that came before it, needed 60"));
}

TEST_CASE("a part that is not seen for a moment is the same; after lost_after_s it is another") {
  belt().record({{{-100, 0}}}, 36, true, {12, 13, 14, 15});
  CHECK(belt().run("").size() == 1);
  const auto forgotten = belt().run("lost_after_s = 0.15\n");
  REQUIRE(forgotten.size() == 2);
  CHECK(sent_tracks(forgotten[1]) == Tracks{2});
}

TEST_CASE("pictures without times tell who has arrived and no speed; nothing arrives on an empty belt") {
  belt().record({{{-110, 0}}, {{-160, 5}}}, 40, false);
  const auto reports = belt().run("");
  REQUIRE(reports.size() == 2);
  CHECK_FALSE(reports[1].parts.at(0).track->velocity);
  belt().record({}, 5, true);
  CHECK(belt().run("").empty());
}

TEST_CASE("a robot that asks waits for an arrival, and gets the velocity") {
  belt().record({{{-110, 0}}, {{-160, 5}}}, 40, true);
  SimulatedRobot robot({.listens = true, .address = {"127.0.0.1", 0}, .asks = true, .time_scale = 1e6}, {});
  std::string text = belt().text("", "mode = \"ask\"\nfields = [\"x\", \"velocity_x\", \"velocity_y\"]\n");
  text.replace(text.find(":1\""), 3, ":" + std::to_string(robot.address().port) + "\"");
  std::jthread side([&] { robot.run(); });
  Station station(belt().file(text));
  station.open_link();
  int results = 0;
  while (const auto report = station.step()) {
    ++results;
    for (const ReportedPart& p : report->parts) CHECK(p.track->velocity->x > 80);
  }
  side.join();
  CHECK(results == 2);
}

TEST_CASE("what cannot be watched for arrivals is refused") {
  belt().record({{{-110, 0}}}, 3, true);
  const auto refused = [&](const std::string& text) {
    return error_of([&] { const Station s(belt().file(text)); });
  };
  CHECK(contains(refused(belt().text("steady = 0\n")), "from 1 to 1000"));
  CHECK(contains(refused(belt().text("apart_s = -1\n")), "from 0 to 86400"));
  CHECK(contains(refused(belt().text("reach_px = 0\n")), "from 1 to 10000"));
  CHECK(contains(refused(belt().text("queue = 1\n")), "queue"));
  std::string arm = belt().text("", "mode = \"ask\"\n");
  arm.replace(arm.find("\"fixed\""), 7, "\"arm\""), arm.replace(arm.find("robot_from"), 10, "flange_from");
  CHECK(contains(refused(arm), "a camera on the arm moves"));
  std::string timer = belt().text("", "mode = \"push\"\nfields = [\"x\", \"velocity_x\"]\n");
  timer.replace(timer.find("by = \"arrival\""), 14, "by = \"timer\"");
  CHECK(contains(refused(timer), "'velocity_x', which needs [trigger] by = \"arrival\""));
}
