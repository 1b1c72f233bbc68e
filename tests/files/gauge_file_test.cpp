#include <doctest/doctest.h>

#include <nlohmann/json.hpp>
#include "gauge/bench_pictures.hpp"
#include "heron/files/gauge_file.hpp"
#include "heron/files/report_json.hpp"
#include "heron/files/target_file.hpp"
#include "support.hpp"

using namespace heron;
using namespace inspection;
using support::contains;
using support::error_of;

namespace {

/// A folder with a panel's target and gauges.
struct Saved {
  support::TemporaryFolder folder;
  GaugeSet set;
  std::string path = folder / "gauges.toml";
  Saved() {
    save_target(folder / "panel.png", panel_target());
    set = set_of(load_target(folder / "panel.png").target,
                 picture_of(render::pieces_of(render::BenchPanel{}, panel_pose)), panel_gauges());
    set.reference_picture = "reference.png";
    set.guard = 2, set.undecided = UndecidedAs::bad;
    set.part_rule = "hole and not (\"left slot\" and 'right slot' < 3)", set.picture_rule = "good_parts >= 1";
    set.gauges[3].limits = {0.1, {}}, set.gauges[3].unit = "px", set.gauges[3].follows.scale = true;
    set.gauges[5].outside = OutsidePicture::inside;
    save_gauges(path, set);
  }
};

}  // namespace

TEST_CASE("a gauge file reads back to the same gauges, to the last bit") {
  const Saved saved;
  const GaugeSet back = load_gauges(saved.path);
  REQUIRE(back.gauges.size() == saved.set.gauges.size());
  for (size_t i = 0; i < back.gauges.size(); ++i) {
    const Gauge &a = saved.set.gauges[i], &b = back.gauges[i];
    CHECK(a.name == b.name);
    CHECK(a.anchor == b.anchor);
    CHECK(a.follows == b.follows);
    CHECK(a.outside == b.outside);
    CHECK(a.limits.min == b.limits.min);
    CHECK(a.unit == b.unit);
    const auto was = settings_of(a.kind), is = settings_of(b.kind);
    REQUIRE(was.size() == is.size());
    for (size_t k = 0; k < is.size(); ++k) CHECK(was[k].value == is[k].value);
  }
  CHECK(back.part_rule == saved.set.part_rule);
  CHECK(back.picture_rule == saved.set.picture_rule);
  CHECK(back.guard == 2);
  CHECK(back.undecided == UndecidedAs::bad);
  REQUIRE(back.targets.size() == 1);
  CHECK(back.targets[0].reference.angle.degrees() == saved.set.targets[0].reference.angle.degrees());
  CHECK(back.targets[0].changed.empty());
  save_gauges(saved.folder / "again.toml", back);
  CHECK(support::read_text(saved.folder / "again.toml") == support::read_text(saved.path));
}

TEST_CASE("loading gauges reports a target that was taught again") {
  const Saved saved;
  const Target target = load_target(saved.folder / "panel.png").target;
  FindOptions options = target.options();
  options.min_score = 77;
  save_target(saved.folder / "panel.png", target.with(options));
  CHECK(load_gauges(saved.path).targets[0].changed.empty());  // limits of finding move no pose
  const Image<uint8_t> other = picture_of(render::pieces_of(render::BenchPanel{}, {}));
  save_target(saved.folder / "panel.png", taught("panel", other, {}, {65, 45}));
  CHECK(contains(load_gauges(saved.path).targets[0].changed, "its pixels"));
  std::filesystem::remove(saved.folder / "panel.png");
  CHECK(contains(error_of([&] { load_gauges(saved.path); }), "names a target that cannot be read"));
}

TEST_CASE("an error in a gauge file names its place") {
  const Saved saved;
  const std::string good = support::read_text(saved.path);
  const auto error = [&](const std::string& from, const std::string& to) {
    return support::error_of_changed(good, from, to, saved.path,
                                     [](const std::string& path) { load_gauges(path); });
  };
  CHECK(contains(error("kind = \"width\"", "kind = \"wide\""), "gauges.toml:"));
  CHECK(contains(error("kind = \"width\"", "kind = \"wide\""), "'kind'"));
  CHECK(contains(error("tone = \"dark\"", "tone = \"darkish\""), "'tone'"));
  CHECK(contains(error("tone = \"dark\"", "tune = \"dark\""), "tone"));
  CHECK(contains(error("band = [", "band = [1, "), "band has 6 numbers"));
  CHECK(contains(error("anchor = \"panel\"", "anchor = \"panels\""), "no target or gauge 'panels'"));
  CHECK(contains(error("min = 0.1", "min = 0.1\nmax = 0.05"), "swapped"));
  CHECK(contains(error("unit = \"px\"", "unit = \"inch\""), "'unit'"));
  CHECK(contains(error("follows = [\"x\"", "follows = [\"z\""), "a gauge follows x, y, angle and scale"));
  CHECK(contains(error("hole and not", "hole and and"), "rule, line 1, column 10"));
  CHECK(contains(error("name = \"hole\"", "name = \"left slot\""), "'left slot' is used twice"));
  CHECK(contains(error("version = 1", "version = 7"), "version"));
}

TEST_CASE("readings and verdicts stand in the report's JSON") {
  const Saved saved;
  GaugeSet set = load_gauges(saved.path);
  set.part_rule = set.picture_rule = "all";
  Report report = measured(set, picture_of(render::pieces_of(render::BenchPanel{}, {0, 0, degrees(50)})), {},
                           {.fixed_too = true});
  report.picture = "p.png";
  const auto j = nlohmann::json::parse(report_json(report));
  CHECK(j["verdict"] == "good");
  CHECK(j["found"][0]["verdict"] == "good");
  size_t follows = 0, fixed = 0;
  for (const auto& r : j["readings"]) {
    (r.contains("fixed") ? fixed : follows)++;
    CHECK(r["state"].is_string());
    CHECK(r.contains("limits"));
    if (r["name"] == "hole" && !r.contains("fixed")) {
      CHECK(r["part"] == 0);
      CHECK(std::abs(r["value"].get<double>() - 14 * scale) < 0.2);
      CHECK(r["sigma"].get<double>() > 0);
      CHECK(r["unit"] == "px");
      CHECK(r["values"]["roundness"]["value"].is_number());
      CHECK(r["limits"]["min"] == 0.1);
      CHECK(r["limits"]["max"].is_null());
    }
  }
  CHECK(follows == 7);
  CHECK(fixed == 7);
}
