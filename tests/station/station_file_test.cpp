#include <doctest/doctest.h>

#include "mutate.hpp"
#include "sanitized.hpp"
#include "station_cell.hpp"

using namespace station_cell;

TEST_CASE("what does not fit together is refused before anything is connected") {
  const std::string text = cell().text(cell().fixed(), "connect = \"127.0.0.1:1\"\nmode = \"push\"");
  const auto refusal = [&](const std::string& from, const std::string& to) {
    std::string changed = text;
    REQUIRE(changed.find(from) != std::string::npos);
    changed.replace(changed.find(from), from.size(), to);
    return support::error_of([&] { const Station station(cell().station(changed)); });
  };
  CHECK(support::contains(refusal("file = \"leaf.png\"", "file = \"leaf.png\"\nmin_score = 300"),
                          "leaf.png: min score 300 must be"));
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
  CHECK(support::contains(refusal("robot_from_board", "robot_from_axes"), "no user zero and axes"));
  // Pictures of another size than the mapping's.
  Recording small{cell().tray.path("small"), {{"a.png"}}};
  std::filesystem::create_directories(small.folder);
  save_picture(small.path(0), Image<uint8_t>(64, 48).view());
  save_recording(small);
  CHECK(support::contains(refusal("\"tray\"", "\"small\""), "calibrate anew"));
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
  says(changed("mode = \"push\"", "mode = \"push\"\nmod = 1"),
       "'mod' is an unknown key; did you mean 'mode'?");
  says(changed("mode = \"push\"", "mode = \"pull\""), "it may be \"push\" or \"ask\"");
  says(changed("version = 1", "version = \"1\""),
       "s.toml:1:11: 'version' must be a whole number, not a text");
  says(changed("version = 1", "version = 2"), "this program reads version 1");
  says(changed("127.0.0.1:5017", "127.0.0.1"), "is no address");
  says(changed("connect =", "listen = \"127.0.0.1:0\"\nconnect ="), "either 'connect' or 'listen'");
  says(changed("mount = \"fixed\"", "mount = \"arm\""), "'flange_from_board' is missing");
  says(changed("file = \"leaf.png\"", "file = \"leaf.png\"\nangle = [30, -30]"), "the ends are swapped");
  says(changed("file = \"leaf.png\"", "file = \"leaf.png\"\nsearch = [0, 0, 0, 5]"), "positive W and H");
  says(changed("mode = \"push\"", "mode = \"push\"\ntimeout_s = -1"), "above 0");
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
                                             {.height_step_mm = 0.05, .options = {.min_contrast = 0.4}});
  save_target(cell().tray.path("relief.png"), relief);
  StationFile file =
      cell().station(cell().text(cell().fixed(), "connect = \"127.0.0.1:1\"\nmode = \"push\""));
  file.setup.targets[0].file = cell().tray.path("relief.png");
  CHECK(
      support::contains(support::error_of([&] { const Station refused{file}; }), "taught from a height map"));
}
