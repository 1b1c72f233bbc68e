#include <doctest/doctest.h>

#include <nlohmann/json.hpp>

#include "heron/files/atomic_file.hpp"
#include "heron/files/mapping_file.hpp"
#include "heron/render/studio_views.hpp"
#include "sanitized.hpp"
#include "support.hpp"

using Json = nlohmann::json;
using support::contains;
using support::run;
using support::TemporaryFolder;

namespace {

const std::string kinds_tool = HERON_TOOL;

/// The studio's pictures, and its own word for how to teach from them.
std::vector<std::string> studio_lines(const TemporaryFolder& folder, int pictures) {
  const auto ran =
      run(kinds_tool + " simulate studio --seed 5 --output s --pictures " + std::to_string(pictures),
          folder.path());
  REQUIRE(ran.status == 0);
  std::vector<std::string> lines;
  std::istringstream text(ran.out);
  for (std::string line; std::getline(text, line);) lines.push_back(line.substr(6));
  return lines;
}

}  // namespace

TEST_CASE("each kind is taught and found with the calls that the studio prints") {
  TemporaryFolder folder;
  const auto lines = studio_lines(folder, sanitized ? 1 : 2);
  REQUIRE(lines.size() == 14);
  for (size_t i = 0; i < 12; i += 2) {
    const auto taught = run(kinds_tool + " " + lines[i] + " --json", folder.path());
    CHECK(taught.status == 0);
    CHECK(Json::parse(taught.out).contains("facts"));
    // Everything that is known to be there is found, and nothing else.
    const auto studied = run(kinds_tool + " " + lines[i + 1] + " --json", folder.path());
    CHECK(studied.status == 0);
    const Json s = Json::parse(studied.out);
    for (const Json& p : s["pictures"]) {
      CHECK(p["found"] == p["expected"]);
      CHECK(p["wrong"] == 0);
    }
  }
  const auto found = [&](const std::string& target, const std::string& picture) {
    const auto ran = run(kinds_tool + " find s/" + target + ".png s/" + target + "/pictures/" + picture +
                             " --json --picture drawn.png",
                         folder.path());
    REQUIRE(ran.status == 0);
    return Json::parse(ran.out)["found"][0];
  };
  const Json color = found("glaze", "glaze-01.png"), outline = found("blank", "blank-01.png"),
             marker = found("bore", "bore-01.png");
  const Json panel = found("panel", "panel-01.png");
  CHECK(panel["side1"]["seen"].get<double>() > 95);
  CHECK(panel["points"].size() == 5);
  CHECK(panel["lengths"][0]["length"].get<double>() == doctest::Approx(496).epsilon(0.001));
  CHECK(panel["chips"] == 0);
  CHECK(color["area"].get<double>() > 1000);
  CHECK(outline["area"].get<double>() > 10000);
  CHECK(outline.contains("deviation"));
  CHECK(outline["angle"].is_number());
  CHECK(marker["angle"].is_null());
  CHECK(marker["diameter"].get<double>() == doctest::Approx(64).epsilon(0.01));
  CHECK(marker["quality"]["total"].get<double>() == marker["score"].get<double>());
  for (const Json& f : {color, outline, marker})
    for (const char* key : {"x", "y", "score"}) CHECK(f[key].is_number());

  // With an empty background, and settings of the kind.
  const auto behind = run(kinds_tool + " teach s/blank/teach.png --kind outline --region " +
                              lines[2].substr(lines[2].find("--region") + 9,
                                              lines[2].find(" --output") - lines[2].find("--region") - 9) +
                              " --background s/blank/empty.png --max-deviation 9 --output b.png",
                          folder.path());
  CHECK(behind.status == 0);
  CHECK(contains(behind.out, "max_deviation          9"));
  CHECK(run(kinds_tool + " find b.png s/blank/pictures/blank-01.png --max-count 1", folder.path()).status ==
        0);
}

TEST_CASE("track tells who is who on a belt, and how fast it runs") {
  TemporaryFolder folder;
  const auto lines = studio_lines(folder, sanitized ? 2 : 5);
  REQUIRE(run(kinds_tool + " " + lines[12], folder.path()).status == 0);
  const auto watched = run(kinds_tool + " " + lines[13] + " --json", folder.path());
  CHECK(watched.status == 0);
  std::istringstream text(watched.out);
  Json last;
  int pictures = 0;
  for (std::string line; std::getline(text, line); ++pictures) last = Json::parse(line);
  CHECK(pictures == (sanitized ? 2 : 5));
  REQUIRE(last["found"].size() == 3);
  for (const Json& f : last["found"]) {  // 36, -9 mm/s at four pixels a millimetre, y the other way round
    CHECK(f["velocity"]["x"].get<double>() == doctest::Approx(144).epsilon(0.01));
    CHECK(f["velocity"]["y"].get<double>() == doctest::Approx(36).epsilon(0.03));
    CHECK(f["pictures"] == pictures);
    CHECK(f["identity"].get<int>() <= 3);
  }
  // Pictures without their times have no velocities.
  const std::string index = folder / "s/belt/pictures/recording.toml";
  std::string words = heron::read_file(index);
  for (size_t at; (at = words.find("at_s")) != std::string::npos;) words.replace(at, 4, "# at");
  heron::write_file(index, words);
  const auto timeless = run(kinds_tool + " " + lines[13], folder.path());
  CHECK(timeless.status == 2);
  CHECK(contains(timeless.err, "has no time"));
  CHECK(run(kinds_tool + " track s/belt.png nowhere", folder.path()).status == 2);
}

TEST_CASE("a marker is given, searched for and told in millimetres, and studied over the field") {
  TemporaryFolder folder;
  const auto lines = studio_lines(folder, 2);
  const auto ran = [&](const std::string& call) { return run(kinds_tool + " " + call, folder.path()); };
  // The studio's camera has four pixels a millimetre.
  REQUIRE(
      ran("calibrate --length 100mm --from 239.5,511.5 --to 639.5,511.5 s/bore/teach.png --output one.toml")
          .status == 0);
  const std::string teach = lines[4].substr(0, lines[4].find(" --output"));
  const auto taught =
      ran(teach + " --mapping one.toml --diameter-mm 16 --tolerance-mm 0.8 --output bore.png --json");
  REQUIRE(taught.status == 0);
  const Json settings = Json::parse(taught.out)["settings"];
  CHECK(settings["diameter"].get<double>() == doctest::Approx(64).epsilon(0.001));
  CHECK(settings["tolerance"].get<double>() == doctest::Approx(5));
  const auto whole = ran("find bore.png s/bore/pictures/bore-01.png --mapping one.toml --json");
  REQUIRE(whole.status == 0);
  const Json found = Json::parse(whole.out)["found"][0];
  CHECK(found["diameter_mm"].get<double>() == doctest::Approx(16).epsilon(0.005));
  // A search region in the world, from whose middle positions count.
  const double x = found["world"]["x"].get<double>(), y = found["world"]["y"].get<double>();
  const auto around = [&](double dx, const std::string& more) {
    return ran("find bore.png s/bore/pictures/bore-01.png --mapping one.toml --json --region-mm=" +
               std::to_string(x + dx - 10) + "," + std::to_string(y - 10) + ",20,20" + more);
  };
  const Json here = Json::parse(around(3, " --from-region").out)["found"][0];
  CHECK(here["world"]["x"].get<double>() == doctest::Approx(-3).epsilon(0.01));
  CHECK(here["world"]["y"].get<double>() == doctest::Approx(0).epsilon(0.02));
  CHECK(around(40, "").status == 1);
  const auto studied =
      ran("study bore.png s/bore/pictures --known s/bore/known.csv --field field.png --json");
  CHECK(studied.status == 0);
  CHECK(std::filesystem::exists(folder / "field.png"));
  // Wrong uses.
  const auto refused = [&](const std::string& call, const char* words) {
    const auto wrong = ran(call);
    CHECK(wrong.status == 2);
    CHECK(contains(wrong.err, words));
  };
  refused("find bore.png s/bore/pictures/bore-01.png --region-mm 0,0,5,5", "needs --mapping");
  refused("find bore.png s/bore/pictures/bore-01.png --mapping one.toml --from-region", "search region");
  refused(teach + " --diameter-mm 16 --output other.png", "need --mapping");
  refused(teach + " --mapping one.toml --tolerance-mm 1 --output other.png", "needs --diameter-mm");
}

TEST_CASE("wrong uses of a kind are told in one message each, and write nothing") {
  TemporaryFolder folder;
  const auto lines = studio_lines(folder, 1);
  const std::string in = kinds_tool + " teach s/bore/teach.png --region 10,10,80,80 --output t.png ";
  for (const auto& [call, words] :
       {std::pair{in + "--kind hole", "there are: pattern, outline, color, marker"},
        {in + "--kind color --space hsv", "is grey"},
        {in + "--kind marker", "nothing round"},
        {in + "--kind marker --angle 30", "no limit 'angle'"},
        {in + "--kind marker --space hsv", "--space is no setting of a marker"},
        {in + "--kind marker --diameter wide", "--diameter 'wide'"},
        {in + "--kind marker --background s/blank/empty.png", "no use for an empty background"},
        {in + "--kind outline --fill-holes maybe", "--fill-holes is no setting"},
        {in + "--kind outline --also s/bore/teach.png", "nothing in the region stands out"}}) {
    CAPTURE(call);
    const auto ran = run(call, folder.path());
    CHECK(ran.status == 2);
    CHECK(contains(ran.err, words));
    CHECK(run("test -e t.png", folder.path()).status != 0);
  }
  CHECK(run(kinds_tool + " " + lines[0], folder.path()).status == 0);
  const auto grey = run(kinds_tool + " find s/glaze.png s/bore/teach.png", folder.path());
  CHECK(grey.status == 2);
  CHECK(contains(grey.err, "needs color"));
  const auto again = run(kinds_tool + " " + lines[0] + " --min-area 9", folder.path());
  CHECK(again.status == 2);
  CHECK(contains(again.err, "--replace"));
  CHECK(contains(again.err, "changed"));
}

TEST_CASE("circles and corners are taught and found by the tool, and a study tells what declines") {
  TemporaryFolder folder;
  const auto lines = studio_lines(folder, sanitized ? 3 : 4);
  const auto ran = [&](const std::string& call) { return run(kinds_tool + " " + call, folder.path()); };
  const auto marker = ran(lines[4]);
  REQUIRE(marker.status == 0);
  const Json bore = Json::parse(ran("find s/bore.png s/bore/teach.png --json").out)["found"][0];
  const double x = bore["x"].get<double>(), y = bore["y"].get<double>();
  const auto text = [](double v) { return std::to_string(v); };
  const std::string region = text(x - 60) + "," + text(y - 60) + ",120,120";
  const auto taught = ran("teach s/bore/teach.png --kind edge --fit circle --region " + region + " --arc " +
                          text(x + 4) + "," + text(y - 3) + ",16,50,0,360 --output ring.png --json");
  REQUIRE(taught.status == 0);
  CHECK(Json::parse(taught.out)["facts"]["radius"].get<double>() == doctest::Approx(32).epsilon(0.005));
  const Json circle =
      Json::parse(ran("find ring.png s/bore/teach.png --json --picture ring-found.png").out)["found"][0];
  CHECK(circle["x"].get<double>() == doctest::Approx(x).epsilon(0.0001));
  CHECK(circle["diameter"].get<double>() == doctest::Approx(bore["diameter"].get<double>()).epsilon(0.003));
  CHECK(circle["angle"].is_null());
  CHECK(circle["lengths"][0]["name"] == "diameter");
  CHECK(std::filesystem::exists(folder / "ring-found.png"));
  const auto wrong = ran("teach s/bore/teach.png --kind edge --fit circle --band 5,5,30,10,0 --region " +
                         region + " --output no.png");
  CHECK(wrong.status == 2);
  CHECK(contains(wrong.err, "along an arc"));

  const auto studied =
      ran("study s/bore.png s/bore/pictures --known s/bore/known.csv --trend trend.png --json");
  CHECK(studied.status == 0);
  const Json study = Json::parse(studied.out);
  CHECK(study["trends"].size() == 8);  // score, contrast and six parts of the quality
  for (const Json& t : study["trends"]) CHECK(t["changes"].is_boolean());
  CHECK(study["field"]["places"].size() == 48);
  CHECK(study["field"]["from_centre"].size() == 4);
  CHECK(std::filesystem::exists(folder / "trend.png"));
}

TEST_CASE("a size is learned from a distance, and tells distances then") {
  TemporaryFolder folder;
  const auto lines = studio_lines(folder, 1);
  const auto ran = [&](const std::string& call) { return run(kinds_tool + " " + call, folder.path()); };
  // The studio's camera: a metre above, four pixels a millimetre.
  heron::MappingRecord record{heron::CameraMapping(heron::render::straight_camera(1280, 1024, 4),
                                                   heron::CameraMapping::Covariance::Zero())};
  record.width = 1280, record.height = 1024;
  heron::save_mapping(folder / "camera.toml", record);
  const std::string teach = lines[4].substr(0, lines[4].find(" --output"));
  const auto learned = ran(teach + " --mapping camera.toml --distance 1000 --output far.png");
  REQUIRE(learned.status == 0);
  CHECK(contains(learned.out, "size"));
  const Json found =
      Json::parse(ran("find far.png s/bore/teach.png --mapping camera.toml --json").out)["found"][0];
  CHECK(found["distance"]["axis"].get<double>() == doctest::Approx(1000).epsilon(0.002));
  // At twice the distance the same picture shows a hole of twice the size.
  REQUIRE(ran(teach + " --mapping camera.toml --distance 2000 --diameter-mm 32 --output twice.png").status ==
          0);
  const Json twice =
      Json::parse(ran("find twice.png s/bore/teach.png --mapping camera.toml --json").out)["found"][0];
  CHECK(twice["distance"]["axis"].get<double>() == doctest::Approx(2000).epsilon(0.002));
  const auto refused = [&](const std::string& more, const char* words) {
    const auto wrong = ran(teach + more + " --output no.png");
    CHECK(wrong.status == 2);
    CHECK(contains(wrong.err, words));
  };
  refused(" --distance 1000", "needs --mapping");
  refused(" --mapping camera.toml --distance -3", "above 0");
  REQUIRE(
      ran("calibrate --length 100mm --from 239.5,511.5 --to 639.5,511.5 s/bore/teach.png --output one.toml")
          .status == 0);
  refused(" --mapping one.toml --distance 1000", "plane alone");
}
