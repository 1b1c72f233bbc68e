#include <doctest/doctest.h>

#include <algorithm>
#include <regex>
#include <sstream>
#include <thread>
#include <vector>

#include "sanitized.hpp"
#include "support.hpp"

namespace {

/// A page's command lines, without what they say behind #.
std::vector<std::string> commands_of(const std::string& page) {
  std::istringstream text(support::read_text(HERON_SOURCE "/" + page));
  std::vector<std::string> lines;
  for (std::string line; std::getline(text, line);)
    if (line.starts_with("    heron "))
      lines.push_back(std::regex_replace(line.substr(4), std::regex(" +#.*"), ""));
  return lines;
}

}  // namespace

TEST_CASE(
    "every command of the tour runs as it stands, in its order, on the demo's data, and the README has no "
    "other") {
  // The other tests look for wrong memory in every command; this one is about the text.
  if (sanitized) return;
  const support::TemporaryFolder folder;
  const std::string demo = HERON_SOURCE "/demo";
  REQUIRE(support::run("cp -r " + demo + " demo", folder.path()).status == 0);
  const std::string tool_folder = std::filesystem::path(HERON_TOOL).parent_path().string();
  const auto run = [&](const std::string& line) {
    return support::run("PATH=" + tool_folder + ":$PATH; " + line, folder / "demo");
  };
  std::thread robot;
  int ran = 0;
  const std::vector<std::string> tour = commands_of("docs/tour.md");
  for (const std::string& line : commands_of("README.md"))
    CHECK_MESSAGE(std::find(tour.begin(), tour.end(), line) != tour.end(), line);
  for (const std::string& line : tour) {
    // The cart takes a minute; cart_tool_test drives it, by itself and machine by machine.
    if (line.find("cart") != std::string::npos) continue;
    ++ran;
    if (line.starts_with("heron simulate robot")) {  // "in one terminal"; the next line is the other
      robot = std::thread([&run, line] {
        const auto result = run(line);
        CHECK_MESSAGE(result.status == 0, line << "\n" << result.err);
      });
      continue;
    }
    const auto result = run(line);
    CHECK_MESSAGE(result.status == 0, line << "\n" << result.err);
    if (robot.joinable()) robot.join();
  }
  CHECK(ran > 35);
}
