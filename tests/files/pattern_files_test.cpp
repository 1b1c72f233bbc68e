#include <doctest/doctest.h>

#include <nlohmann/json.hpp>

#include "heron/files/csv_file.hpp"
#include "heron/files/report_json.hpp"
#include "heron/files/target_file.hpp"
#include "support.hpp"

// What files hold of a pattern: every setting, what is known of a recording, and what a report tells.

using namespace heron;
using nlohmann::json;
using support::contains;
using support::error_of;
using support::TemporaryFolder;

namespace {

Image<uint8_t> plate() {
  Image<uint8_t> picture(120, 90);
  for (int y = 0; y < 90; ++y)
    for (int x = 0; x < 120; ++x)
      picture(x, y) = x > 25 && x < 95 && y > 20 && y < 70 && x + y < 150 ? 190 : 50;
  return picture;
}

}  // namespace

TEST_CASE("every setting of a target comes back to the same number") {
  TemporaryFolder folder;
  for (const Inversion inversion : {Inversion::none, Inversion::whole, Inversion::local}) {
    PatternSettings settings{
        .name = "plate", .edge_threshold = 1.0 / 3, .detail = 1, .height_step_mm = 0.0123};
    settings.options = {.angle = {-10_deg, degrees(33.3)},
                        .scale = {0.9, 1.1},
                        .min_score = 61.7,
                        .min_contrast = 0.1,
                        .max_count = 3,
                        .min_visible = 0.7,
                        .max_outside = 0.125,
                        .inversion = inversion,
                        .thoroughness = Thoroughness::exhaustive};
    const PatternTarget target = teach_pattern(plate(), Region::rectangle({10, 8, 100, 75}), settings);
    save_target(folder / "t.png", target);
    const LoadedTarget back = load_target(folder / "t.png");
    CHECK_FALSE(back.edited);
    CHECK_FALSE(back.resized);
    CHECK_FALSE(back.settings_lost);
    const PatternSettings& s = back.target.as<PatternTarget>()->settings();
    CHECK(s.edge_threshold == settings.edge_threshold);
    CHECK(s.detail == 1);
    CHECK(s.height_step_mm == 0.0123);
    CHECK(s.options.angle.max.degrees() == doctest::Approx(33.3).epsilon(1e-14));
    CHECK(s.options.scale == settings.options.scale);
    CHECK(s.options.min_score == 61.7);
    CHECK(s.options.min_contrast == 0.1);
    CHECK(s.options.max_count == 3);
    CHECK(s.options.min_visible == 0.7);
    CHECK(s.options.max_outside == 0.125);
    CHECK(s.options.inversion == inversion);
    CHECK(s.options.thoroughness == Thoroughness::exhaustive);
    CHECK(inversion_of(word_of(inversion), "--inversion") == inversion);
  }
  CHECK(contains(error_of([] { inversion_of("upside", "--inversion"); }), "--inversion \"upside\" must be"));
}

TEST_CASE("rows with names: parts, empty pictures, headers, remarks, and what does not fit") {
  TemporaryFolder folder;
  const auto rows = [&](const std::string& text) {
    support::write_text(folder / "k.csv", text);
    return load_named_csv(folder / "k.csv", "picture", {"x", "y"}, {"angle", "scale"});
  };
  const auto read =
      rows("picture,x,y,angle\n# by hand\n\na.png,1.5,2\r\na.png ; 3 ; 4 ; -170\nb.png\nc.png,\n");
  REQUIRE(read.size() == 4);
  CHECK(read[0].name == "a.png");
  using Numbers = std::vector<std::optional<double>>;
  CHECK(read[0].numbers == Numbers{1.5, 2, std::nullopt, std::nullopt});
  CHECK(read[1].name == "a.png");
  CHECK(read[1].numbers == Numbers{3, 4, -170, std::nullopt});
  CHECK(read[2].numbers == Numbers(4));
  CHECK(read[3].name == "c.png");
  CHECK(read[3].numbers == Numbers(4));
  CHECK(rows("scale,y,picture,x\n0.5,2,a.png,1\n")[0].numbers == Numbers{1, 2, std::nullopt, 0.5});
  const auto refused = [&](const std::string& text, const char* words) {
    CHECK_MESSAGE(contains(error_of([&] { rows(text); }), words), text);
  };
  refused("a.png,1\n", "k.csv:1");
  refused("picture,x,y\na.png,1\n", "k.csv:2: 'y' is missing");
  refused("picture,x,y\na.png,1,2,3\n", "k.csv:2: 4 columns");
  refused("picture,x,y,turn\na.png,1,2,3\n", "'turn' is an unknown column");
  refused("picture,x,y\na.png,1,two\n", "k.csv:2");
  refused("picture,x,y\na.png,nan,2\n", "k.csv:2");
  CHECK(contains(error_of([&] {
                   load_named_csv(folder / "none.csv", "picture", {"x", "y"}, {});
                 }),
                 "cannot be opened"));
}

TEST_CASE("a report tells what was turned round, held back, and stopped") {
  Report report;
  report.picture = "p.png";
  Detection s{.target = "leaf", .x = 1, .y = 2, .angle = 30_deg, .score = 88, .range_end = {"angle"}};
  s.ambiguous = OtherPose{3, 4, 31_deg, 1.01, 87};
  s.inverted = true;
  report.parts.push_back({s, {}, {}});
  report.misses.push_back({5, 6, 7_deg, 1, 44, {{"score", 44, "at least 50", 2.5}}});
  report.complete = false;
  const json j = json::parse(report_json(report));
  CHECK(j["complete"] == false);
  CHECK(j["found"][0]["inverted"] == true);
  CHECK(j["found"][0]["range_end"] == json::array({"angle"}));
  CHECK(j["found"][0]["ambiguous"]["angle"].get<double>() == doctest::Approx(31));
  CHECK(j["found"][0]["ambiguous"]["score"] == 87);
  CHECK(j["misses"][0]["limits"][0]["sigma"] == 2.5);
  // What is as usual takes no room.
  Report usual;
  usual.parts.push_back({Detection{.target = "leaf", .angle = 0_deg}, {}, {}});
  const json plain = json::parse(report_json(usual));
  CHECK_FALSE(plain.contains("complete"));
  CHECK_FALSE(plain["found"][0].contains("inverted"));
  CHECK_FALSE(plain["found"][0].contains("beyond"));
}
