#include <doctest/doctest.h>
#include <fmt/format.h>

#include <nlohmann/json.hpp>
#include <sstream>

#include "heron/files/picture_file.hpp"
#include "support.hpp"

// Teaching, finding and studying as a user types it.

using nlohmann::json;
using support::contains;
using support::TemporaryFolder;

namespace {

struct Desk {
  TemporaryFolder folder;
  std::string region;

  Desk() {
    const auto made = run("simulate tray --seed 8 --views 4 --leaves 4 --others 7 --hard --output hard");
    const size_t at = made.out.find(" in ") + 4;
    region = made.out.substr(at, made.out.find(')') - at);
    run("teach hard/teach.png --region " + region + " --output leaf.png");
  }
  support::Ran run(const std::string& arguments) const {
    return support::run(std::string(HERON_TOOL) + " " + arguments, folder.path());
  }
  void refused(const std::string& arguments, const std::string& message) const {
    const auto ran = run(arguments);
    CHECK_MESSAGE(ran.status == 2, arguments << "\n" << ran.err);
    CHECK_MESSAGE(contains(ran.err, message), arguments << "\n" << ran.err);
  }
};

const Desk& desk() {
  static const Desk shared;
  return shared;
}

}  // namespace

TEST_CASE("teach tells how good a part is, previews, and replaces only when told") {
  const auto preview = desk().run("teach hard/teach.png --region " + desk().region + " --preview p.png");
  CHECK(preview.status == 0);
  CHECK(contains(preview.out, "as it would be taught"));
  CHECK(contains(preview.out, "expected   x 0.00"));
  CHECK(heron::load_picture(desk().folder / "p.png").width() > 800);

  desk().run("teach hard/teach.png --region " + desk().region +
             " --output mine.png --min-score 66 --height 4");
  const std::string before = support::read_text(desk().folder / "mine.png");
  const auto again =
      desk().run("teach hard/teach.png --region " + desk().region + " --output mine.png --edge-threshold 20");
  CHECK(again.status == 2);
  CHECK(contains(again.err, "--replace"));
  CHECK(contains(again.err, "66"));
  CHECK(contains(again.err, "changed"));
  CHECK(support::read_text(desk().folder / "mine.png") == before);
  const auto replaced = desk().run("teach hard/teach.png --region " + desk().region +
                                   " --output mine.png --edge-threshold 20 --replace --json");
  REQUIRE(replaced.status == 0);
  CHECK(json::parse(replaced.out)["edge_threshold"] == 20);
  CHECK(contains(support::read_text(desk().folder / "mine.png"), "min_score = 66"));
  CHECK(contains(support::read_text(desk().folder / "mine.png"), "height_mm = 4"));

  desk().refused("teach hard/teach.png --region " + desk().region, "--preview");
  desk().refused("teach hard/teach.png --region " + desk().region + " --output x.png --detail 9", "detail");
  desk().refused("teach hard/teach.png --region " + desk().region + " --output hard/board.png", "no target");
  desk().refused("teach hard/teach.png --region " + desk().region + " --output x.png --inversion up",
                 "local");
  desk().refused("teach hard/teach.png --region " + desk().region + " --output x.png --also hard/board.png",
                 "found in none");
}

TEST_CASE("regions of every shape, added and cut out") {
  const auto edges = [](const std::string& shape) {
    const auto ran = desk().run("teach hard/teach.png --preview s.png --json --region " + shape);
    REQUIRE_MESSAGE(ran.status == 0, ran.err);
    return json::parse(ran.out)["edges"][0].get<int>();
  };
  // The tile's middle, as the tool told its region.
  const size_t comma = desk().region.find(','), second = desk().region.find(',', comma + 1);
  const double x = std::stod(desk().region) + 106,
               y = std::stod(desk().region.substr(comma + 1, second)) + 82;
  const std::string middle = std::to_string(x) + "," + std::to_string(y);
  const int all = edges(desk().region);
  CHECK(edges("turned:" + middle + ",212,164,0") == all);
  const int round = edges("ellipse:" + middle + ",70,50");
  CHECK(round < all);
  CHECK(edges("ring:" + middle + ",20,60") < all);
  CHECK(edges("ellipse:" + middle + ",70,50 --without ellipse:" + middle + ",30,20,45") < round);
  CHECK(edges("ellipse:" + middle + ",70,50 --with " + desk().region) == all);
  CHECK(edges("polygon:" + std::to_string(x - 110) + "," + std::to_string(y - 85) + "," +
              std::to_string(x + 110) + "," + std::to_string(y - 85) + "," + std::to_string(x) + "," +
              std::to_string(y + 85)) < all);
  desk().refused("teach hard/teach.png --preview s.png --region star:1,2,3", "ellipse, ring or polygon");
  desk().refused("teach hard/teach.png --preview s.png --region ring:1,2,3", "INNER,OUTER");
  desk().refused("teach hard/teach.png --preview s.png --region polygon:1,2,3,4,5", "three or more corners");
}

TEST_CASE("teach keeps what is the same in several pictures") {
  const auto stable = desk().run("teach hard/teach.png --region " + desk().region +
                                 " --also hard/tray/tray-01.png hard/tray/tray-02.png hard/tray/tray-03.png "
                                 "--stable-share 0.6 --output stable.png");
  CHECK(stable.status == 0);
  CHECK(contains(stable.err, "are the same in 3 further pictures"));
  CHECK(desk().run("find stable.png hard/tray/tray-04.png").status == 0);
}

TEST_CASE("find takes inversion, thoroughness, budget and count") {
  const auto found = [](const std::string& more) {
    const auto ran = desk().run("find leaf.png hard/tray/tray-01.png --json " + more);
    return json::parse(ran.out);
  };
  CHECK(found("")["found"].size() == 4);
  CHECK(found("--thoroughness exhaustive --inversion whole")["found"].size() == 4);
  CHECK(found("--max-count all --min-visible 0.9")["found"].size() == 4);
  const json stopped = found("--budget 0.001");
  CHECK(stopped["complete"] == false);
  CHECK(found("--budget 60000").value("complete", true));
  CHECK(found("--max-count 1")["misses"].size() >= 3);
  desk().refused("find leaf.png hard/tray/tray-01.png --thoroughness 2", "quick");
  desk().refused("find leaf.png hard/tray/tray-01.png --budget 0", "--budget");
  desk().refused("find leaf.png hard/tray/tray-01.png --inversion up", "local");
  desk().refused("find leaf.png hard/tray/tray-01.png --max-count 0", "at least 1, or all");
  desk().refused("find leaf.png hard/tray/tray-01.png --min-visible 2", "min visible");
}

TEST_CASE("study proposes settings, compares, and writes them only when told") {
  const std::string before = support::read_text(desk().folder / "leaf.png");
  const auto told = desk().run(
      "study leaf.png hard/tray --known hard/known.csv --min-score 90 --plot scores.png --sheet worst.png");
  CHECK(told.status == 1);
  CHECK(contains(told.out, "missing"));
  CHECK(contains(told.out, "the worst part scores"));
  CHECK(heron::load_picture(desk().folder / "scores.png").width() == 1280);
  CHECK(heron::load_picture(desk().folder / "worst.png").width() == 1280);
  CHECK(support::read_text(desk().folder / "leaf.png") == before);
  CHECK(told.err.empty());  // no bar where there is no terminal

  const auto old = desk().run("study leaf.png hard/tray --known hard/known.csv --min-score 90 --json");
  const json j = json::parse(old.out);
  CHECK(j["pictures"].size() == 4);
  CHECK(j["pictures"][0]["expected"] == 4);
  CHECK(j["gap"]["open"] == true);
  support::write_text(desk().folder / "old.json", old.out);

  support::write_text(desk().folder / "mine2.png", before);
  const auto applied =
      desk().run("study mine2.png hard/tray --known hard/known.csv --compare old.json --apply");
  CHECK(applied.status == 0);
  CHECK(contains(applied.out, "better"));
  CHECK(contains(support::read_text(desk().folder / "mine2.png"), "count = 4"));
  CHECK(desk().run("find mine2.png hard/tray/tray-04.png").status == 0);

  desk().refused("study leaf.png hard/known.csv", "recording.toml");
  desk().refused("study leaf.png hard/tray --compare hard/known.csv", "is no study");
  support::write_text(desk().folder / "wrong.csv", "picture,x,y\nnot-there.png,3,4\n");
  desk().refused("study leaf.png hard/tray --known wrong.csv", "not-there.png");
  support::write_text(desk().folder / "wrong.csv", "picture,x,y\ntray-01.png,3\n");
  desk().refused("study leaf.png hard/tray --known wrong.csv", "wrong.csv:2");
}

TEST_CASE("study says why parts are missing, and when what is known means another origin") {
  const auto strict = desk().run("study leaf.png hard/tray --known hard/known.csv --min-contrast 90");
  CHECK(strict.status == 1);
  CHECK(contains(strict.out, "4 missing (contrast)"));
  const auto few = desk().run("study leaf.png hard/tray --known hard/known.csv --max-count 1 --json");
  const json counted = json::parse(few.out);
  REQUIRE(counted["pictures"].size() == 4);
  for (const json& picture : counted["pictures"]) {
    CHECK(picture["found"] == 1);
    CHECK(picture["missing"] == 3);
    for (const json& find : picture["scores"])
      if (find["part"] == true && find["within"] == false) CHECK(find["limits"] == json{"count"});
  }
  std::istringstream numbers(desk().region);
  double x = 0, y = 0, width = 0, height = 0;
  for (double* number : {&x, &y, &width, &height}) numbers >> *number, numbers.ignore();
  desk().run(fmt::format("teach hard/teach.png --region {} --origin {},{} --output corner.png", desk().region,
                         x, y));
  const auto corner = desk().run("study corner.png hard/tray --known hard/known.csv");
  CHECK(corner.status == 1);
  CHECK(contains(corner.out, fmt::format("lies ({:.1f}, {:.1f}) px from it", width / 2, height / 2)));
}

TEST_CASE("a height map is taught and found like a picture, and not mixed up with one") {
  desk().run("simulate stack --seed 3 --output oblong.tif");
  desk().refused("teach oblong.tif --region 140,100,240,200 --output high.png", "level MAP --square");
  desk().refused("teach oblong.tif --region 140,100,240,200 --output high.png", "0.2 x 0.25 mm");
  const auto square = desk().run("level oblong.tif --pitch 0.2,0.25 --square --output stack.tif");
  CHECK(contains(square.out, "on square pixels of 0.2 mm: 640 x 639"));
  desk().refused("teach stack.tif --region 300,700,50,50 --output high.png", "it must lie inside");
  const auto taught = desk().run("teach stack.tif --region 140,100,240,200 --output high.png --json");
  REQUIRE_MESSAGE(taught.status == 0, taught.err);
  const auto found = desk().run("find high.png stack.tif --json --picture high-found.png");
  CHECK(found.status == 0);
  const json detection = json::parse(found.out)["found"][0];
  CHECK(std::abs(detection["x"].get<double>() - 260) < 0.05);
  CHECK(std::abs(detection["angle"].get<double>()) < 0.05);
  desk().refused("find high.png hard/teach.png", "height map");
  desk().refused("find high.png oblong.tif", "0.2 x 0.25 mm");
  desk().refused("find leaf.png stack.tif", "height map");
}
