#include <doctest/doctest.h>

#include <algorithm>
#include <nlohmann/json.hpp>

#include "heron/files/recording.hpp"
#include "support.hpp"

using support::contains;

namespace {

using nlohmann::json;

struct Studio {
  support::TemporaryFolder folder;
  support::Ran run(const std::string& arguments) const {
    return support::run(std::string(HERON_TOOL) + " " + arguments, folder.path());
  }
};

}  // namespace

TEST_CASE("record: pictures at intervals, appended, dropped, put in another order, replayed") {
  const Studio s;
  const auto first = s.run("record simulated:1 --count 3 --every 30 --bright 190 --output parts");
  REQUIRE_MESSAGE(first.status == 0, first.err);
  CHECK(contains(first.err, "brightness"));
  CHECK(contains(first.err, "3 pictures of 3"));
  const heron::Recording r = heron::load_recording(s.folder / "parts");
  REQUIRE(r.size() == 3);
  CHECK(*r.pictures[2].at_s > *r.pictures[0].at_s);
  CHECK(*r.pictures[0].exposure_ms > 0);
  const auto again = s.run("record simulated:1 --count 1 --output parts");
  CHECK(again.status == 2);
  CHECK(contains(again.err, "--append"));
  CHECK(s.run("record simulated:2 --count 2 --exposure 4 --gain 2 --append --output parts").status == 0);
  CHECK(heron::load_recording(s.folder / "parts").size() == 5);
  CHECK(s.run("record --output parts --drop 2,4").status == 0);
  CHECK(s.run("record --output parts --order 3,1,2").status == 0);
  const heron::Recording edited = heron::load_recording(s.folder / "parts");
  REQUIRE(edited.size() == 3);
  CHECK(edited.pictures[1].file == r.pictures[0].file);
  CHECK(*edited.pictures[0].exposure_ms == 4);
  CHECK_FALSE(std::filesystem::exists(r.path(1)));
  CHECK(s.run("record recording:parts --output copy").status == 0);
  CHECK(heron::load_recording(s.folder / "copy").size() == 3);
  for (const char* wrong :
       {"record --output parts --drop 9", "record --output parts --order 1,2",
        "record --output parts --drop 1,2,3", "record --output parts", "record spy:1 --output x",
        "record simulated:1 --exposure 900 --count 1 --output x"})
    CHECK(s.run(wrong).status == 2);
}

TEST_CASE("a plain folder of pictures is a recording in the order of its names, and is never edited") {
  const Studio s;
  REQUIRE(s.run("simulate tray --seed 4 --views 3 --output cell").status == 0);
  // Names whose numbers are not written alike, and a file that is no picture.
  REQUIRE(support::run("mkdir plain && cp cell/tray/tray-01.png plain/p10.png && cp cell/tray/tray-02.png "
                       "plain/p9.png && cp cell/tray/tray-03.png plain/p009b.PNG && echo x > plain/notes.txt",
                       s.folder.path())
              .status == 0);
  const heron::Recording r = heron::load_recording(s.folder / "plain");
  REQUIRE(r.size() == 3);
  CHECK(r.pictures[0].file == "p9.png");
  CHECK(r.pictures[1].file == "p009b.PNG");
  CHECK(r.pictures[2].file == "p10.png");
  const auto region = [&] {
    const std::string said = s.run("simulate tray --seed 4 --views 1 --output again").out;
    const size_t at = said.find("leaf tile in ") + 13;
    return said.substr(at, said.find(')') - at);
  }();
  REQUIRE(s.run("teach cell/teach.png --region " + region + " --output leaf.png").status == 0);
  const auto found = s.run("find leaf.png plain cell/tray/tray-01.png --quick --json");
  CHECK(found.status == 0);
  CHECK(std::count(found.out.begin(), found.out.end(), '\n') == 4);
  CHECK(s.run("study leaf.png plain").status == 0);
  CHECK(s.run("record recording:plain --output copy").status == 0);
  const auto timed = s.run("track leaf.png plain");
  CHECK(timed.status == 2);
  CHECK(contains(timed.err, "has no time"));
  const auto edited = s.run("record --output plain --drop 1");
  CHECK(edited.status == 2);
  CHECK(contains(edited.err, "stay as they are"));
  CHECK(heron::load_recording(s.folder / "plain").size() == 3);
  REQUIRE(support::run("mkdir empty", s.folder.path()).status == 0);
  CHECK(contains(s.run("find leaf.png empty").err, "a folder with pictures"));
}

TEST_CASE("record: a disk without room stops it with words, and what was recorded stays whole") {
  const Studio s;
  REQUIRE(s.run("record simulated:1 --count 1 --output parts").status == 0);
  const auto full = support::run("bash -c 'ulimit -f 64; " + std::string(HERON_TOOL) +
                                     " record simulated:1 --count 3 --append --output parts'",
                                 s.folder.path());
  CHECK(full.status == 2);
  CHECK(contains(full.err, "What was recorded before is whole"));
  CHECK(heron::load_recording(s.folder / "parts").size() == 1);
  CHECK(std::distance(std::filesystem::directory_iterator(s.folder / "parts"), {}) == 2);
}

TEST_CASE("record: steps on Enter, merged exposures, and a stop by signal leaves a whole recording") {
  const Studio s;
  CHECK(support::run("bash -c 'printf \"\\n\\nq\\n\" | " + std::string(HERON_TOOL) +
                         " record simulated:1 --step --output steps'",
                     s.folder.path())
            .status == 0);
  CHECK(heron::load_recording(s.folder / "steps").size() == 2);
  const auto merged = s.run("record recording:steps --merge 1,8 --output x");
  CHECK(contains(merged.err, "exposure cannot be set"));
  CHECK(s.run("record simulated:1 --merge 1,4,16 --count 1 --output merged").status == 0);
  CHECK(contains(s.run("light merged/picture-0001.png").out, "brightness"));
  const auto stopped = support::run(
      std::string(HERON_TOOL) +
          " record simulated:1 --every 200 --output endless & heron=$!; k=0; until [ -e "
          "endless/picture-0001.png ] || [ $k = 1200 ]; do k=$((k+1)); sleep 0.1; done; kill -s INT $heron; "
          "wait $heron",
      s.folder.path());
  CHECK(heron::load_recording(s.folder / "endless").size() >= 1);
}

TEST_CASE("cameras: what each can do") {
  const Studio s;
  const auto ran = s.run("cameras simulated:1 --json");
  REQUIRE(ran.status == 0);
  CHECK(json::parse(ran.out)["exposure_ms"][1] == 50);
  CHECK(s.run("cameras genicam:nobody").status == 2);
  CHECK(s.run("cameras nonsense").status == 2);
}
