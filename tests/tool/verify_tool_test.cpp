// How exactly the robot arrives, as its user checks it.
#include <doctest/doctest.h>

#include <filesystem>
#include <nlohmann/json.hpp>
#include <sstream>
#include <thread>

#include "support.hpp"

using nlohmann::json;
using support::contains;
using support::TemporaryFolder;

namespace {

/// The demo's cell with a frame that is wrong, and parts touched by a robot that knows where they lie.
struct WrongFrame {
  TemporaryFolder folder;

  WrongFrame() {
    std::filesystem::copy(std::string(HERON_SOURCE) + "/demo", folder.path(),
                          std::filesystem::copy_options::recursive);
    std::string station = support::read_text(folder / "station.toml");
    const size_t frame = station.find("robot_from_board");
    station.replace(frame, station.find('\n', frame) - frame,
                    "robot_from_board = [561.49157, -265.08478, 113.203564]");
    station.replace(station.find("5017"), 4, "5937");
    support::write_text(folder / "station.toml", station);
    std::jthread robot([&] {
      run("simulate robot --listen 127.0.0.1:5937 --truth truth.json --time-scale 1000 --touched "
          "arrived.csv");
    });
    REQUIRE(run("run station.toml --reports reports.jsonl --quiet").status == 0);
  }
  support::Ran run(const std::string& arguments) const {
    return support::run("timeout 120 " HERON_TOOL " " + arguments, folder.path());
  }
};

const WrongFrame& wrong_frame() {
  static const WrongFrame shared;
  return shared;
}

}  // namespace

TEST_CASE("verify finds the frame that is wrong, and with its frame nothing is left") {
  const auto told = wrong_frame().run("verify reports.jsonl --touched arrived.csv --station station.toml");
  CHECK(told.status == 1);
  CHECK(contains(told.out, "15 parts touched: 0.6"));
  const size_t at = told.out.find("robot_from_board = [");
  REQUIRE(at != std::string::npos);
  double x = 0, y = 0, angle = 0;
  REQUIRE(std::sscanf(told.out.c_str() + at, "robot_from_board = [%lf, %lf, %lf]", &x, &y, &angle) == 3);
  CHECK(std::abs(x - 561.09157) < 0.02);
  CHECK(std::abs(y + 264.78478) < 0.02);
  CHECK(std::abs(angle - 113.103564) < 0.01);
  const json j = json::parse(wrong_frame().run("verify reports.jsonl --touched arrived.csv --json").out);
  CHECK(j["shift"]["seen"] == true);
  CHECK(j["turn"]["value"].get<double>() == doctest::Approx(-0.1).epsilon(0.1));
  CHECK(j["scale"]["seen"] == false);
  CHECK(j["hand"]["seen"] == false);
  CHECK(j["rest"].size() == 15);
  // The demo's own frame, by pictures alone: a report a line, numbered by its lines.
  const std::string good = "find leaf.png tray/tray-01.png tray/tray-02.png --mapping mapping.toml --json";
  const auto found = wrong_frame().run(good);
  CHECK(contains(wrong_frame().run("verify reports.jsonl --touched nowhere.csv").err, "nowhere.csv"));
  support::write_text(wrong_frame().folder / "found.jsonl", found.out);
  CHECK(contains(wrong_frame().run("verify found.jsonl --touched arrived.csv").err,
                 "result 1 has no part 1: 0 with a place in the robot's frame were sent"));
}

TEST_CASE("verify names a part that was touched wrongly, and what it cannot read") {
  std::string rows = support::read_text(wrong_frame().folder / "arrived.csv");
  const size_t line = rows.find("\n2,3,") + 5;
  const double x = std::stod(rows.substr(line));
  rows.replace(line, rows.find(',', line) - line, std::to_string(x + 3));
  support::write_text(wrong_frame().folder / "slip.csv", rows);
  const auto told = wrong_frame().run("verify reports.jsonl --touched slip.csv");
  CHECK(contains(told.out, "left out: part 3 of result 2 (leaf), 3.0"));
  CHECK(contains(told.out, "touch it again"));
  const auto refused = [&](const std::string& text, const std::string& options, const std::string& message) {
    support::write_text(wrong_frame().folder / "bad.csv", text);
    const auto ran = wrong_frame().run("verify reports.jsonl --touched bad.csv " + options);
    CHECK(ran.status == 2);
    CHECK_MESSAGE(contains(ran.err, message), ran.err);
  };
  const std::string head = "result,part,x,y\n";
  refused(head + "9,1,0,0\n", "", "result 9 is not in reports.jsonl");
  refused(head + "1,9,0,0\n", "", "result 1 has no part 9");
  refused(head + "1.5,1,0,0\n", "", "result 1.5 is no whole number");
  refused(head + "1,1,0,0\n1,2,0,0\n", "", "five are the least");
  refused("part,x,y\n1,0,0\n", "", "result");
  refused(rows, "--touch-sigma 0", "above 0");
  const std::string once = support::read_text(wrong_frame().folder / "reports.jsonl");
  std::string other = once;
  other.replace(other.find("\"x\":") + 4, 1, "7");
  support::write_text(wrong_frame().folder / "twice.jsonl", once + once);
  CHECK(wrong_frame().run("verify twice.jsonl --touched arrived.csv").status == 1);
  support::write_text(wrong_frame().folder / "twice.jsonl", once + other);
  CHECK(contains(wrong_frame().run("verify twice.jsonl --touched arrived.csv").err,
                 "result 1 stands here a second time"));
  support::write_text(wrong_frame().folder / "none.jsonl", "\n");
  CHECK(contains(wrong_frame().run("verify none.jsonl --touched slip.csv").err, "holds no report"));
  CHECK(contains(wrong_frame().run("verify slip.csv --touched slip.csv").err, "slip.csv:1: holds no report"));
}
