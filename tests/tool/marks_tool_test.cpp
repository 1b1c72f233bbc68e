// A camera is pushed aside; the tool's own way from the board to the robot, with and without marks.
#include <doctest/doctest.h>

#include <nlohmann/json.hpp>
#include <thread>

#include "heron/link/line_socket.hpp"
#include "support.hpp"

using support::contains;

TEST_CASE("with marks the robot arrives where it did before the camera was pushed aside") {
  const support::TemporaryFolder folder;
  const std::string tool = HERON_TOOL;
  const auto run = [&](const std::string& arguments) {
    auto ran = support::run(tool + " " + arguments, folder.path());
    CHECK_MESSAGE(ran.status == 0, arguments << ": " << ran.err);
    return ran;
  };
  const std::string cell = run("simulate tray --seed 5 --views 3 --marks --output .").out;
  CHECK(contains(cell, "marks.png"));
  const size_t from = cell.find("tile in ") + 8;
  run("calibrate --board dots --columns 13 --rows 11 --pitch 18 board.png --output mapping.toml");
  CHECK(contains(run("calibrate --anchor mapping.toml marks.png --output anchored.toml").out, "ring 11"));
  run("teach teach.png --region " + cell.substr(from, cell.find(')', from) - from) +
      " --name leaf --output leaf.png");
  const std::string touched = run("calibrate --touch-points touched.csv").out;
  const auto worst = [&](const std::string& marks) {
    const std::string address = heron::LineListener({"127.0.0.1", 0}).address().text();
    support::write_text(folder / "station.toml",
                        "version = 1\nname = \"tray\"\n[camera]\nrecording = \"tray\"\n[mapping]\nfile = "
                        "\"anchored.toml\"\n" +
                            marks + touched.substr(touched.find("[frame]")) +
                            "[[target]]\nfile = \"leaf.png\"\n[link]\nprotocol = \"text\"\nconnect = \"" +
                            address + "\"\nmode = \"push\"\ntimeout_s = 30\n");
    support::Ran robot;
    std::thread side([&] {
      robot = support::run(
          tool + " simulate robot --listen " + address + " --truth truth.json --time-scale 1000 --json",
          folder.path());
    });
    const std::string told = run("run station.toml").err;
    side.join();
    CHECK(contains(told, "the places move along") == !marks.empty());
    double off = 0;
    const auto log = nlohmann::json::parse(robot.out);
    CHECK(log["arrivals"].size() == 15);
    for (const auto& a : log["arrivals"]) off = std::max(off, a["off_mm"].get<double>());
    return off;
  };
  CHECK(worst("") > 2);
  CHECK(worst("marks = true\n") < 0.03);
}
