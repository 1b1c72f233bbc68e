#include <doctest/doctest.h>

#include <algorithm>
#include <nlohmann/json.hpp>
#include <sstream>
#include <thread>

#include "heron/files/recording.hpp"
#include "sanitized.hpp"
#include "support.hpp"

using nlohmann::json;
using support::TemporaryFolder;

namespace {

const std::string program = HERON_TOOL;

/// One cell, calibrated and taught by the tool itself, as the README does it.
struct Worked {
  TemporaryFolder folder;
  std::string region;
  support::Ran calibrated, taught;

  Worked() {
    const auto made = run("simulate tray --seed 42 --views 2 --output .");
    const size_t at = made.out.find(" in ") + 4;
    region = made.out.substr(at, made.out.find(')') - at);
    calibrated = run(
        "calibrate --board dots --columns 13 --rows 11 --pitch 18 board.png --output mapping.toml --json");
    taught = run("teach teach.png --region " + region + " --output leaf.png --picture taught.png");
  }
  support::Ran run(const std::string& arguments) const {
    return support::run(program + " " + arguments, folder.path());
  }
  bool has(const std::string& name) const { return std::filesystem::exists(folder / name); }
};

const Worked& worked() {
  static const Worked shared;
  return shared;
}

void refused(const std::string& arguments, const std::string& message, int status = 2) {
  const auto ran = worked().run(arguments);
  CHECK_MESSAGE(ran.status == status, arguments << "\n" << ran.err);
  CHECK_MESSAGE(ran.err.find(message) != std::string::npos, arguments << "\n" << ran.err);
}

}  // namespace

TEST_CASE("help has an example for every command, and wrong use is status 2") {
  CHECK(worked().run("--help").status == 0);
  for (const char* command : {"board", "calibrate", "rings", "map", "teach", "find", "study", "run", "replay",
                              "verify", "simulate robot", "simulate tray", "demo"}) {
    const auto ran = worked().run(std::string(command) + " --help");
    CHECK(ran.status == 0);
    CHECK_MESSAGE(ran.out.find("Example: heron ") != std::string::npos, command);
  }
  CHECK(worked().run("").status == 2);
  CHECK(worked().run("fly").status == 2);
  CHECK(worked().run("find").status == 2);
  CHECK(worked().run("find leaf.png --colour red x.png").status == 2);
}

TEST_CASE("board writes sheets of all three kinds, and its PNG is found by calibrate") {
  for (const char* kind : {"dots", "checker"}) {
    for (const char* ending : {"pdf", "svg", "png"})
      CHECK(worked()
                .run(std::string("board --kind ") + kind +
                     " --columns 9 --rows 7 --pitch 12 --dpi 100 --output b." + ending)
                .status == 0);
    CHECK(support::read_text(worked().folder / "b.pdf").starts_with("%PDF"));
    CHECK(support::read_text(worked().folder / "b.svg").find("<svg") != std::string::npos);
    const auto ran = worked().run(std::string("calibrate --board ") + kind +
                                  " --columns 9 --rows 7 --pitch 12 b.png --output " + kind + ".toml --json");
    REQUIRE_MESSAGE(ran.status == 0, ran.err);
    const json j = json::parse(ran.out);
    CHECK(j["points"] == 63);
    CHECK(j["marked"] == true);
    // The sheet itself is true to size: 100 dots an inch.
    CHECK(j["mm_per_pixel"].get<double>() == doctest::Approx(0.254).epsilon(1e-4));
  }
  refused("board --kind stars --output b.pdf", "dots or checker");
  refused("board --columns 2 --output b.pdf", "3 to 200");
  refused("board --pitch 0 --output b.pdf", "0.01 to 1000");
  refused("board --output b.doc", ".pdf, .svg or .png");
}

TEST_CASE("calibrate and map: pixels become millimetres") {
  REQUIRE_MESSAGE(worked().calibrated.status == 0, worked().calibrated.err);
  const json c = json::parse(worked().calibrated.out);
  CHECK(c["points"] == 143);
  CHECK(c["rms_px"].get<double>() < 0.05);
  const auto ran = worked().run("map mapping.toml --pixel 640,512 --angle 30 --json");
  REQUIRE(ran.status == 0);
  const json m = json::parse(ran.out);
  CHECK(m["sigma"]["x"].get<double>() > 0);
  // The world sees the picture's clockwise angles the other way round.
  CHECK(m["angle"].get<double>() == doctest::Approx(-30).epsilon(0.4));
  const auto two = worked().run("map mapping.toml --pixel 100,100 --pixel -5,100");
  CHECK(two.status == 0);
  CHECK(std::count(two.out.begin(), two.out.end(), '\n') == 2);
  CHECK(two.err.find("outside") != std::string::npos);
  refused("map mapping.toml --pixel 640", "it is written");
  refused("map mapping.toml --pixel 1,nan", "it is written");
  refused("map none.toml --pixel 1,1", "No such file");
  refused("map touched.csv --pixel 1,1", "touched.csv:1:");
}

TEST_CASE("calibrate says what is wrong with its pictures") {
  refused("calibrate --board dots --columns 12 --rows 11 --pitch 18 board.png --output x.toml", "13 x 11", 1);
  refused("calibrate --board dots --columns 13 --rows 11 --pitch 18 teach.png --output x.toml",
          "of 143 dots seen", 1);
  refused("calibrate --board checker --columns 13 --rows 11 --pitch 18 board.png --output x.toml", "corners",
          1);
  refused("calibrate --board dots --columns 13 --rows 11 --pitch -1 board.png --output x.toml", "pitch");
  refused("calibrate --board dots none.png --output x.toml", "No such file");
  refused("calibrate --board dots --output x.toml", "no picture given");
  refused("calibrate board.png --output x.toml", "say from what");
  CHECK_FALSE(worked().has("x.toml"));
  support::write_text(worked().folder / "line.csv",
                      "board_x,board_y,robot_x,robot_y\n0,0,0,0\n1,0,1,0\n2,0,2,0\n");
  refused("calibrate --touch-points line.csv", "one line");
  const auto ran = worked().run("calibrate --touch-points touched.csv --json");
  REQUIRE(ran.status == 0);
  CHECK(json::parse(ran.out)["rms_mm"].get<double>() < 0.02);
}

TEST_CASE("teach and find as the README writes them") {
  REQUIRE_MESSAGE(worked().taught.status == 0, worked().taught.err);
  CHECK(worked().has("taught.png"));
  const auto ran = worked().run(
      "find leaf.png tray/tray-01.png tray/tray-02.png --mapping mapping.toml --json --picture found.png");
  REQUIRE_MESSAGE(ran.status == 0, ran.err);
  std::istringstream lines(ran.out);
  std::string line;
  int pictures = 0;
  while (std::getline(lines, line)) {
    const json j = json::parse(line);
    CHECK(j["picture"] == "tray/tray-0" + std::to_string(++pictures) + ".png");
    CHECK(j["found"].size() == 5);
    CHECK(j["elapsed_ms"].get<double>() > 0);
    CHECK(j.contains("misses"));
    for (const json& part : j["found"]) {
      for (const char* key : {"target", "x", "y", "angle", "scale", "score", "sigma", "world", "range_end"})
        CHECK(part.contains(key));
      for (const char* key : {"x", "y", "angle"}) CHECK(part["world"].contains(key));
    }
  }
  CHECK(pictures == 2);
  CHECK(worked().has("found-01.png"));
  CHECK(worked().has("found-02.png"));
}

TEST_CASE("find keeps its limits and its exit statuses") {
  CHECK(worked().run("find leaf.png teach.png").status == 0);
  const auto none = worked().run("find leaf.png board.png --json");
  CHECK(none.status == 1);
  CHECK(json::parse(none.out)["found"].empty());
  const auto one = worked().run("find leaf.png tray/tray-01.png --max-count 1 --json");
  CHECK(json::parse(one.out)["found"].size() == 1);
  CHECK(json::parse(one.out)["misses"][0]["limits"][0]["name"] == "count");
  for (const char* angle : {"-30..30", "30"}) {
    const auto narrow =
        worked().run(std::string("find leaf.png tray/tray-01.png tray/tray-02.png --json --angle ") + angle);
    std::istringstream lines(narrow.out);
    for (std::string line; std::getline(lines, line);) {
      const json answer = json::parse(line);
      for (const json& part : answer["found"]) CHECK(std::abs(part["angle"].get<double>()) <= 30);
    }
  }
  refused("find leaf.png teach.png --angle 30..-30", "swapped");
  refused("find leaf.png teach.png --angle -30", "both sides");
  refused("find leaf.png teach.png --scale 1.2..0.8", "swapped");
  refused("find leaf.png teach.png --min-score 120", "0 to 100");
  refused("find leaf.png teach.png --max-count -1", "--max-count");
  refused("find leaf.png teach.png --region 1,2,3", "WIDTH,HEIGHT");
  refused("find leaf.png teach.png --region 0,0,0,9", "above 0");
  refused("find leaf.png teach.png --without 0,0,5,9", "--region");
  refused("find teach.png teach.png", "no target");
  refused("find leaf.png teach.png --mapping leaf.png", "leaf.png:1:");
  // The memory that an input may take is given before the command.
  CHECK(worked().run("--memory 64 find leaf.png teach.png").status == 0);
  refused("--memory -5 find leaf.png teach.png", "from 64 to 65536 MB");
}

TEST_CASE("one bad picture does not take the others' answers away") {
  support::write_text(worked().folder / "empty.png", "");
  const auto ran = worked().run("find leaf.png tray/tray-01.png none.png empty.png tray/tray-02.png --json");
  CHECK(ran.status == 2);
  std::istringstream lines(ran.out);
  std::vector<json> answers;
  for (std::string line; std::getline(lines, line);) answers.push_back(json::parse(line));
  REQUIRE(answers.size() == 4);
  CHECK(answers[0]["found"].size() == 5);
  CHECK(answers[1].contains("error"));
  CHECK(answers[2]["error"].get<std::string>().find("is empty") != std::string::npos);
  CHECK(answers[3]["found"].size() == 5);
}

TEST_CASE("teach refuses what cannot be taught, and writes nothing") {
  refused("teach teach.png --region 1200,900,200,200 --output x.png", "must lie inside");
  refused("teach teach.png --region 10,10,0,20 --output x.png", "above 0");
  refused("teach teach.png --region 10,10,80,80 --output x.png", "nothing to hold on to here");
  refused("teach none.png --region 10,10,80,80 --output x.png", "No such file");
  refused("teach teach.png --region " + worked().region + " --output x.jpg", "written as .png");
  refused("teach teach.png --region " + worked().region + " --output no/such/x.png", "cannot be written");
  CHECK_FALSE(worked().has("x.png"));
}

TEST_CASE("run, track and record end on a signal with everything settled, and the status says so") {
  support::write_text(
      worked().folder / "live.toml",
      "version = 1\nname = \"live\"\n[camera]\naddress = \"simulated:7\"\n[mapping]\nfile = "
      "\"mapping.toml\"\n[frame]\nmount = \"fixed\"\nrobot_from_board = [0, 0, 0]\n[[target]]\n"
      "file = \"leaf.png\"\n[link]\nprotocol = \"text\"\nconnect = \"127.0.0.1:5919\"\nmode = \"push\"\n"
      "timeout_s = 30\n");
  // The signal comes when the shell's test `until` holds.
  const auto signalled = [&](const std::string& arguments, const std::string& signal,
                             const std::string& until) {
    return support::run(program + " " + arguments + " & heron=$!; k=0; until " + until +
                            " || [ $k = 1200 ]; do k=$((k+1)); sleep 0.1; done; kill -s " + signal +
                            " $heron; wait $heron",
                        worked().folder.path());
  };
  support::Ran robot;
  std::thread side([&] {
    robot = support::run(program + " simulate robot --listen 127.0.0.1:5919 --time-scale 1000 --json",
                         worked().folder.path());
  });
  const auto ran =
      signalled("run live.toml --reports live.jsonl --trace live.txt", "TERM", "[ -s live.jsonl ]");
  side.join();
  CHECK(ran.status == 143);
  CHECK(support::contains(ran.err, "stopped by a signal: "));
  CHECK(support::contains(ran.err, "every result acknowledged"));
  const json log = json::parse(robot.out);
  CHECK(log["over"] == true);  // it was told that nothing follows
  CHECK(log["results"].get<int>() > 0);
  const std::string reports = support::read_text(worked().folder / "live.jsonl");
  CHECK(std::count(reports.begin(), reports.end(), '\n') == 2 * log["results"].get<int>());
  CHECK(support::contains(support::read_text(worked().folder / "live.txt"), "> END-OF-RESULTS"));
  CHECK(signalled("track leaf.png simulated:7 >track.txt", "INT", "[ -s track.txt ]").status == 130);
  const std::string every = "record simulated:7 --every 200 --output ";
  CHECK(signalled(every + "stopped", "INT", "[ -e stopped/picture-0003.png ]").status == 0);
  CHECK(signalled(every + "stopped2 --count 900", "INT", "[ -e stopped2/picture-0003.png ]").status == 130);
  // While it waits for the robot.
  CHECK(signalled("run live.toml --trace waits.txt", "INT", "[ -e waits.txt ]").status == 130);
  REQUIRE(heron::load_recording(worked().folder / "stopped").size() >= 2);
}

TEST_CASE("run tells a simulated robot of another process, both ways round") {
  const auto frame = worked().run("calibrate --touch-points touched.csv").out;
  const auto station = [&](const std::string& link) {
    support::write_text(
        worked().folder / "station.toml",
        "version = 1\nname = \"tray\"\n[camera]\nrecording = \"tray\"\n[mapping]\nfile = \"mapping.toml\"\n" +
            frame.substr(frame.find("[frame]")) +
            "[[target]]\nfile = \"leaf.png\"\n[link]\nprotocol = \"text\"\n" + link);
  };
  for (const bool asks : {false, true}) {
    station("connect = \"127.0.0.1:5917\"\nmode = \"" + std::string(asks ? "ask" : "push") +
            "\"\ntimeout_s = 30\n");
    support::Ran robot;
    std::thread side([&] {
      robot = support::run(
          program + " simulate robot --listen 127.0.0.1:5917 --truth truth.json --time-scale 1000 --json" +
              (asks ? " --ask" : ""),
          worked().folder.path());
    });
    const std::string before = asks ? support::read_text(worked().folder / "reports.jsonl") : "";
    const auto ran =
        worked().run("run station.toml --json --reports reports.jsonl --pictures shots --keep-pictures 1");
    side.join();
    REQUIRE_MESSAGE(ran.status == 0, ran.err);
    CHECK(robot.status == 0);
    const json log = json::parse(robot.out);
    CHECK(log["arrivals"].size() == 10);
    CHECK(log["left_lying"] == 0);
    for (const json& a : log["arrivals"]) CHECK(a["off_mm"].get<double>() < 0.05);
    // What an earlier run wrote stays.
    const std::string reports = support::read_text(worked().folder / "reports.jsonl");
    CHECK(reports.starts_with(before));
    std::istringstream lines(reports.substr(before.size())), told(ran.out);
    for (int n = 1; n <= 2; ++n) {
      std::string report, delivery, as_told;
      std::getline(lines, report), std::getline(lines, delivery), std::getline(told, as_told);
      CHECK(report == as_told);
      CHECK(json::parse(delivery)["number"] == n);
      CHECK(json::parse(delivery)["acknowledged"] == true);
      CHECK(json::parse(delivery)["done"] == true);
    }
    CHECK(worked().has("shots/000002.png"));
    CHECK_FALSE(worked().has("shots/000001.png"));
  }
  station("connect = \"127.0.0.1:5918\"\nmode = \"push\"\ntimeout_s = 0.2\n");
  refused("run station.toml", "no robot at 127.0.0.1:5918");
  station("connect = \"127.0.0.1:5918\"\nmode = \"push\"\ntimout_s = 0.2\n");
  refused("run station.toml", "did you mean 'timeout_s'?");
  refused("simulate robot --truth truth.json", "either --listen");
  refused("simulate robot --listen 127.0.0.1:0 --truth board.png", "no truth file");
}

TEST_CASE("the demo reaches its goal for a seed of its own") {
  const auto ran = worked().run("demo --seed 31 --output demo --time-scale 1000");
  CHECK(ran.status == 0);
  CHECK(ran.out.find("15 arrivals") != std::string::npos);
  CHECK(ran.out.find(": reached") != std::string::npos);
}

TEST_CASE("the pictures kept in demo/ are those that the renderer makes") {
  CHECK(worked().run("simulate tray --seed 1 --output again").status == 0);
  for (const char* name : {"board.png", "teach.png", "tray/tray-01.png", "tray/tray-02.png",
                           "tray/tray-03.png", "touched.csv", "truth.json"}) {
    CAPTURE(name);
    CHECK(support::read_text(worked().folder / "again/" + name) ==
          support::read_text(std::string(HERON_SOURCE) + "/demo/" + name));
  }
}

TEST_CASE("the examples run on the demo's data") {
  const auto parts =
      support::run(std::string(HERON_EXAMPLES) + "/find_parts leaf.png tray", worked().folder.path());
  CHECK(parts.status == 0);
  CHECK(parts.out.find("tray-01.png: 5 found") != std::string::npos);
  CHECK(support::run(std::string(HERON_EXAMPLES) + "/find_parts", worked().folder.path()).status == 2);
  CHECK(worked().run("demo --seed 42 --output cell --time-scale 1000").status == 0);
  const auto station = support::run(std::string(HERON_EXAMPLES) + "/run_station station.toml truth.json",
                                    worked().folder / "cell");
  CHECK_MESSAGE(station.status == 0, station.err);
  CHECK(station.out.find("result 3: 5 parts") != std::string::npos);
}
