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

TEST_CASE("docs/messages.md lists the messages that are in the code") {
  const support::Ran listed = support::run(HERON_SOURCE "/scripts/messages", HERON_SOURCE);
  REQUIRE_MESSAGE(listed.status == 0, listed.err);
  CHECK_MESSAGE(listed.out == support::read_text(HERON_SOURCE "/docs/messages.md"),
                "run scripts/messages > docs/messages.md");
}

TEST_CASE("man pages and completions are made from the help, for every command and option") {
  const support::TemporaryFolder folder;
  const auto heron = [&](const std::string& words) {
    return support::run(std::string(HERON_TOOL) + " " + words, folder.path());
  };
  REQUIRE(heron("manual made").status == 0);
  const std::string page = support::read_text(folder / "made/man1/heron-find.1"),
                    overview = support::read_text(folder / "made/man1/heron.1");
  CHECK(support::contains(page, ".TH heron\\-find 1"));
  CHECK(support::contains(page, "\\-\\-min\\-score"));
  CHECK(support::contains(page, ".SH EXAMPLES"));
  for (const char* command : {"cameras", "calibrate", "teach", "find", "study", "run", "demo cart"})
    CHECK_MESSAGE(support::contains(overview, ".B heron " + std::string(command)), command);
  CHECK_FALSE(support::contains(overview, "heron manual"));
  CHECK(heron("manual /dev/null/here").status == 2);
  // As bash would ask it.
  const auto completed = [&](const std::string& words, int at) {
    return support::run("bash -c 'source made/completions/heron.bash; COMP_WORDS=(" + words +
                            "); COMP_CWORD=" + std::to_string(at) + "; _heron; echo \"${COMPREPLY[@]}\"'",
                        folder.path())
        .out;
  };
  CHECK(completed("heron ca", 1) == "cameras calibrate\n");
  CHECK(completed("heron find --min-s", 2) == "--min-score\n");
  CHECK(support::contains(completed("heron demo ca", 2), "cart"));
  CHECK(completed("heron demo cart --se", 3) == "--seed\n");
}

TEST_CASE("--quiet shows errors alone, --verbose details with the time") {
  const support::TemporaryFolder folder;
  REQUIRE(support::run("cp -r " HERON_SOURCE "/demo demo", folder.path()).status == 0);
  const auto heron = [&](const std::string& words) {
    return support::run(std::string(HERON_TOOL) + " " + words, folder / "demo");
  };
  const std::string find = "find leaf.png tray/tray-01.png";
  CHECK(heron(find).err.empty());
  const std::string details = heron("--verbose " + find).err;
  CHECK(support::contains(details, "searched in"));
  // 2026-11-30 12:34:56.789 heron: find: ...
  CHECK(details.find(" heron: find: ") == 23);
  CHECK(details.substr(0, 2) == "20");
  CHECK((details[4] == '-' && details[10] == ' ' && details[13] == ':' && details[19] == '.'));
  CHECK(support::contains(heron("map mapping.toml --pixel 5000,10").err, "note: (5000, 10)"));
  CHECK(heron("--quiet map mapping.toml --pixel 5000,10").err.empty());
  CHECK(support::contains(heron("--quiet find none.png tray/tray-01.png").err, "none.png: cannot be opened"));
  CHECK(heron("--quiet --verbose " + find).status == 2);
  // What cannot be plotted is refused before the work.
  const support::Ran ending = heron("study leaf.png tray --plot scores.bmp");
  CHECK(ending.status == 2);
  CHECK(ending.out.empty());
  CHECK(support::contains(ending.err, ".png, .svg or .pdf"));
  CHECK(support::contains(heron("study leaf.png tray --plot-data").err, "needs --plot"));
  CHECK(support::contains(heron("study leaf.png tray --plot a.png --field ./a.png").err, "two outputs"));
  // Behind the command they mean the same.
  CHECK(support::contains(heron(find + " --verbose").err, "searched in"));
  CHECK(heron("map mapping.toml --pixel 5000,10 --quiet").err.empty());
}
