// A station with several set-ups, as its user runs it.
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

/// The demo's cell with two set-ups: all leaves, and the best one.
struct TwoSetUps {
  TemporaryFolder folder;

  TwoSetUps() {
    const std::string demo = std::string(HERON_SOURCE) + "/demo";
    std::filesystem::copy(demo, folder.path(), std::filesystem::copy_options::recursive);
    std::filesystem::create_directory(folder / "products");  // paths in a set-up's file start there
    support::write_text(folder / "products/all.toml", "version = 1\n[[target]]\nfile = \"../leaf.png\"\n");
    support::write_text(folder / "products/best.toml",
                        "version = 1\n[[target]]\nfile = \"../leaf.png\"\nmax_count = 1\n");
    const std::string station = support::read_text(folder / "station.toml");
    const size_t target = station.find("[[target]]"), link = station.find("[link]");
    std::string two =
        station.substr(0, target) +
        "[[setup]]\nnumber = 1\nname = \"all\"\nfile = \"products/all.toml\"\n[[setup]]\nnumber = 2\n"
        "name = \"best\"\nfile = \"products/best.toml\"\n" +
        station.substr(link);
    two.replace(two.find("5017"), 4, "5936");
    two.replace(two.find("\"push\""), 6, "\"ask\"");
    support::write_text(folder / "two.toml", two);
  }
  support::Ran run(const std::string& arguments) const {
    return support::run("timeout 120 " HERON_TOOL " " + arguments, folder.path());
  }
};

std::vector<json> lines_of(const std::string& text) {
  std::vector<json> lines;
  std::istringstream stream(text);
  for (std::string line; std::getline(stream, line);) lines.push_back(json::parse(line));
  return lines;
}

}  // namespace

TEST_CASE("a robot selects set-ups of a running station in turn, and a dry run starts with any") {
  const TwoSetUps cell;
  support::Ran robot;
  std::jthread side([&] {
    robot = cell.run(
        "simulate robot --listen 127.0.0.1:5936 --truth truth.json --ask --select 2,1 --time-scale 1000");
  });
  const support::Ran ran = cell.run("run two.toml --json");
  side.join();
  CHECK(ran.status == 0);
  CHECK(contains(robot.out, "3 results, 7 arrivals, 8 parts not picked, 0 repeats, 0 lines not understood"));
  const auto reports = lines_of(ran.out);
  REQUIRE(reports.size() == 3);
  const int expected[][2] = {{2, 1}, {1, 5}, {2, 1}};
  for (size_t i = 0; i < 3; ++i) {
    CHECK(reports[i]["setup"]["number"] == expected[i][0]);
    CHECK(reports[i]["found"].size() == static_cast<size_t>(expected[i][1]));
  }
  const support::Ran dry = cell.run("run two.toml --dry-run --setup 2");
  CHECK(dry.status == 0);
  CHECK(contains(dry.out, ", set-up 2 (best)"));
  const support::Ran none = cell.run("run two.toml --dry-run --setup 5");
  CHECK(none.status == 2);
  CHECK(contains(none.err, "there is no set-up 5; there are 1 (all), 2 (best)"));
}
