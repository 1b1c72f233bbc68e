// Wrong calls of every command: one clear message, status 2, and nothing written.
#include <doctest/doctest.h>

#include <set>

#include "heron/files/atomic_file.hpp"
#include "support.hpp"

using support::contains;
using support::run;
using support::TemporaryFolder;

namespace {

const std::string bad_tool = HERON_TOOL;

std::set<std::string> files_in(const std::string& folder) {
  std::set<std::string> names;
  for (const auto& entry : std::filesystem::recursive_directory_iterator(folder))
    names.insert(entry.path().string());
  return names;
}

}  // namespace

TEST_CASE("every command refuses what it cannot use in words, and writes nothing") {
  TemporaryFolder folder;
  const auto made = run(bad_tool + " simulate tray --seed 3 --views 1 --output demo", folder.path());
  REQUIRE(made.status == 0);
  REQUIRE(run(bad_tool + " teach demo/teach.png --region 467,434,212,164 --output leaf.png", folder.path())
              .status == 0);
  heron::write_file(folder / "words.txt", "no picture, no table");
  heron::write_file(folder / "empty.png", "");
  heron::write_file(folder / "cut.png", heron::read_file(folder / "demo/teach.png").substr(0, 2000));
  heron::write_file(folder / "empty.toml", "");
  std::filesystem::create_directories(folder / "nothing");
  const auto before = files_in(folder.path());
  const char* calls[] = {
      // pictures that are none
      "find leaf.png missing.png", "find leaf.png words.txt", "find leaf.png empty.png",
      "find leaf.png cut.png", "find leaf.png nothing", "find words.txt demo/teach.png",
      "find missing.png demo/teach.png", "teach missing.png --region 1,1,50,50 --output t.png",
      "teach words.txt --region 1,1,50,50 --output t.png", "light missing.png", "light empty.png",
      "level demo/teach.png --pitch 0.2,0.2", "level missing.tif", "rings missing.png", "rings empty.png",
      // regions, points and numbers
      "teach demo/teach.png --region 10,10 --output t.png",
      "teach demo/teach.png --region 10,10,0,50 --output t.png",
      "teach demo/teach.png --region 10,10,-5,50 --output t.png",
      "teach demo/teach.png --region 1200,1000,500,500 --output t.png",
      "teach demo/teach.png --region nan,10,50,50 --output t.png",
      "teach demo/teach.png --region circle:1,2,3 --output t.png",
      "teach demo/teach.png --region 467,434,212,164 --origin 3 --output t.png",
      "teach demo/teach.png --region 467,434,212,164 --grasp 1,2 --output t.png",
      "teach demo/teach.png --region 467,434,212,164 --height inf --output t.png",
      "teach demo/teach.png --region 467,434,212,164 --output t.bmp",
      "teach demo/teach.png --region 467,434,212,164",
      "teach demo/teach.png --region 5,5,20,20 --output t.png",
      // limits
      "find leaf.png demo/teach.png --angle 40..-400", "find leaf.png demo/teach.png --scale 0..1",
      "find leaf.png demo/teach.png --scale 1.2..0.8", "find leaf.png demo/teach.png --min-score 140",
      "find leaf.png demo/teach.png --max-count -1", "find leaf.png demo/teach.png --thoroughness 3",
      "find leaf.png demo/teach.png --inversion upside", "find leaf.png demo/teach.png --region 5,5",
      "find leaf.png demo/teach.png --budget -4",
      // mappings and boards
      "find leaf.png demo/teach.png --mapping words.txt", "find leaf.png demo/teach.png --mapping empty.toml",
      "map missing.toml --pixel 1,2", "map empty.toml --pixel 1,2", "map words.txt --pixel 1,2",
      "calibrate --board dots --columns 1 --rows 11 --pitch 18 demo/board.png --output m.toml",
      "calibrate --board dots --columns 13 --rows 11 --pitch 0 demo/board.png --output m.toml",
      "calibrate --board stripes --columns 13 --rows 11 --pitch 18 demo/board.png --output m.toml",
      "calibrate --board dots --columns 13 --rows 11 --pitch 18 missing.png --output m.toml",
      "board --kind dots --columns 13 --rows 11 --pitch -2 --output b.pdf",
      "board --kind ring --identity 400 --diameter 40 --output b.pdf", "calibrate --touch-points words.txt",
      "calibrate --touch-points missing.csv",
      // recordings, stations and stand-ins
      "study leaf.png missing", "study leaf.png nothing", "study leaf.png demo/tray --known words.txt",
      "study leaf.png demo/tray --compare words.txt", "track leaf.png missing", "track leaf.png simulated:x",
      "record file:missing --output rec", "record nowhere://x --output rec", "run missing.toml",
      "run empty.toml", "run words.txt", "simulate tray --views 0 --output other",
      "simulate studio --pictures 0 --output other", "simulate robot --listen 127.0.0.1 --truth t.json",
      "simulate robot --listen 127.0.0.1:99999",
      // commands and options
      "discover", "find", "teach", "find leaf.png demo/teach.png --colour",
      "find --wrong leaf.png demo/teach.png"};
  int tried = 0;
  for (const std::string call : calls) {
    CAPTURE(call);
    const auto ran = run("timeout 60 " + bad_tool + " " + call, folder.path());
    CHECK(ran.status == 2);
    CHECK(ran.err.size() > 15);
    CHECK(ran.err.size() < 2000);
    CHECK_FALSE(contains(ran.err, "terminate called"));
    CHECK_FALSE(contains(ran.err, "std::"));
    ++tried;
  }
  CHECK(tried > 60);
  const auto after = files_in(folder.path());
  for (const std::string& name : after) {
    CAPTURE(name);
    CHECK(before.count(name) == 1);
  }
}

TEST_CASE("what cannot be written is an error that says where, and a disk's refusal loses nothing") {
  TemporaryFolder folder;
  REQUIRE(run(bad_tool + " simulate tray --seed 3 --views 1 --output demo", folder.path()).status == 0);
  const std::string teach = bad_tool + " teach demo/teach.png --region 467,434,212,164 --output ";
  const auto nowhere = run(teach + "no/such/folder/leaf.png", folder.path());
  CHECK(nowhere.status == 2);
  CHECK(contains(nowhere.err, "no/such/folder"));
  REQUIRE(run(teach + "leaf.png", folder.path()).status == 0);
  const std::string good = heron::read_file(folder / "leaf.png");
  // A folder stands where the picture is to go.
  std::filesystem::create_directories(folder / "drawn.png");
  const auto drawn = run(bad_tool + " find leaf.png demo/teach.png --picture drawn.png", folder.path());
  CHECK(drawn.status == 2);
  CHECK(contains(drawn.err, "drawn.png"));
  const auto again = run(teach + "leaf.png", folder.path());
  CHECK(again.status == 2);
  CHECK(heron::read_file(folder / "leaf.png") == good);
  for (const auto& entry : std::filesystem::directory_iterator(folder.path()))
    CHECK(entry.path().extension() != ".part");
}

TEST_CASE("help of one kind shows that kind's options alone, and refuses a kind that does not exist") {
  TemporaryFolder folder;
  const auto help = [&](const std::string& call) {
    return run(bad_tool + " " + call + " --help", folder.path());
  };
  const auto border = help("teach --kind border").out, common = help("teach").out,
             color = help("teach --kind color").out;
  CHECK(contains(border, "--chip-width"));
  CHECK(contains(border, "[15]"));  // the default of --snap
  CHECK_FALSE(contains(border, "--min-light"));
  CHECK_FALSE(contains(border, "--edge-threshold"));
  CHECK_FALSE(contains(border, "--steps"));  // learned at teaching
  CHECK(contains(color, "--not"));
  CHECK_FALSE(contains(color, "--inversion"));
  CHECK_FALSE(contains(common, "--chip-width"));
  CHECK(contains(common, "--kind KIND --help"));
  const auto wrong = help("teach --kind nonsense");
  CHECK(wrong.status == 2);
  CHECK(contains(wrong.err, "'nonsense' is no kind of target"));
}

TEST_CASE("help is there for every command, with an example that names it") {
  TemporaryFolder folder;
  const auto all = run(bad_tool + " --help", folder.path());
  CHECK(all.status == 0);
  for (const char* command : {"cameras", "record", "light", "level", "board", "calibrate", "rings", "map",
                              "teach", "find", "study", "track", "run", "simulate", "demo"}) {
    CAPTURE(command);
    CHECK(contains(all.out, command));
    const auto help = run(bad_tool + " " + command + " --help", folder.path());
    CHECK(help.status == 0);
    CHECK(contains(help.out, "Usage"));
  }
}

TEST_CASE(
    "wrong words of a call are told with what was probably meant, and what is missing with its meaning") {
  const struct {
    const char *call, *told;
  } wrong[] = {
      {"", "heron: a command is missing; there are cameras, record"},
      {"fnd leaf.png", "heron: no command 'fnd'; did you mean 'find'?"},
      {"xyzzy", "heron: no command 'xyzzy'; there are cameras"},
      {"simulate traay", "heron simulate: no command 'traay'; did you mean 'tray'?"},
      {"find a.png b.png --score 3", "heron find: no option --score; did you mean --min-score?"},
      {"find a.png b.png --angel=3", "heron find: no option --angel; did you mean --angle?"},
      {"find a.png b.png --xyzzy", "heron find: no option --xyzzy\n"},
      {"--xyzzy find a.png b.png", "heron: no option --xyzzy\n"},
      {"--quick find a.png b.png", "heron: --quick belongs after `heron find`"},
      {"simulate --seed 3 tray --output q", "heron simulate: --seed belongs after `heron simulate tray`"},
      {"find a.png b.png -- --xyzzy", "heron: no option --xyzzy\n"},
      {"-x", "heron: no command '-x'"},
      {"find a.png", "heron find: 'pictures' is missing (pictures, or folders of pictures)"},
      {"find a.png b.png --min-score", "heron find: --min-score needs a value (lowest score, 0 to 100)"},
      {"find a.png b.png --min-score x", "heron find: --min-score 'x' is no number (lowest score, 0 to 100)"},
      {"teach a.png --detail 1.5", "heron teach: --detail '1.5' is no whole number"},
      {"find a.png b.png --min-score 3 --min-score 4", "heron find: --min-score is given more than once"},
      {"find a.png b.png --picture --quick", "heron find: --picture: a value is missing before --quick"},
      {"find a.png b.png --budget inf", "heron find: --budget: 'inf' is beyond 1e+09 either side of 0"},
      {"map m.toml --pixel 1,2 --angle 1e300", "heron map: --angle: '1e300' is beyond 1e+09"},
      {"teach a.png b.png --region 1,2,3,4", "heron teach: 'b.png' is not expected here"},
      {"teach a.png --output b.png",
       "heron teach: --region is missing (region of the part, X,Y,WIDTH,HEIGHT"},
  };
  TemporaryFolder folder;
  for (const auto& w : wrong) {
    CAPTURE(w.call);
    const auto result = run(bad_tool + " " + w.call, folder.path());
    CHECK(result.status == 2);
    CHECK(result.out == "");
    CHECK(contains(result.err, w.told));
    CHECK(contains(result.err, "--help`"));
  }
  CHECK(files_in(folder.path()).empty());
}
