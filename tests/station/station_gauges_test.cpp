#include <doctest/doctest.h>

#include <algorithm>

#include "heron/files/gauge_file.hpp"
#include "heron/gauge/measure.hpp"
#include "station_cell.hpp"

using namespace station_cell;
using support::contains;
using support::error_of;

namespace {

/// A gauge across the leaf tiles' short side, with a limit that some of them miss, beside the cell's target.
std::string station_with_gauges(const std::string& more) {
  const Target leaf = load_target(cell().tray.path("leaf.png")).target;
  const PreparedPicture reference(grey_levels(load_picture(cell().tray.path("teach.png"))));
  GaugeSet set;
  set.reference_picture = "teach.png";
  set.targets.push_back(*attached(leaf, "leaf.png", reference));
  const Similarity2& at = set.targets[0].reference;
  const MappingRecord mapping = load_mapping(cell().tray.path("mapping.toml"));
  const double tile_turn = cell().tray.station.teach.tiles[0].table_from_tile.angle.degrees();
  add_gauge(set,
            {.name = "width",
             .anchor = "leaf",
             .kind = WidthGauge{.band = {at.x, at.y, 170, 40, 90 - tile_turn}, .pair = WidthPair::outermost}},
            reference, {&mapping.mapping});
  save_gauges(cell().tray.path("gauges.toml"), set);
  std::string text = cell().text(cell().fixed(), "connect = \"127.0.0.1:1\"\nmode = \"push\"\n" + more);
  return text.insert(text.find("[camera]"), "gauges = \"gauges.toml\"\n");
}

}  // namespace

TEST_CASE(
    "a station judges its parts, sends their verdicts, and keeps those that are not good when told so") {
  for (const bool keeps : {false, true}) {
    Station station(cell().station(station_with_gauges(std::string("fields = [\"x\", \"y\", \"verdict\"]\n") +
                                                       (keeps ? "withhold = [\"not_good\"]" : ""))));
    const Picture picture = load_picture(cell().tray.path("tray/tray-01.png"));
    Report report = station.examine(picture, station.file().setup.robot_from_world);
    REQUIRE(report.parts.size() == 5);
    CHECK(report.verdict == Verdict::good);
    for (const Reading& r : report.readings) {
      REQUIRE(r.value);
      CHECK(r.unit == "mm");
      CHECK(std::abs(*r.value - 33) < 0.05);  // of the tiles, as they are drawn
    }
    // A limit in the middle of what the five tiles read makes some of them bad.
    GaugeSet set = load_gauges(cell().tray.path("gauges.toml"));
    std::vector<double> widths;
    for (const Reading& r : report.readings) widths.push_back(*r.value);
    std::sort(widths.begin(), widths.end());
    set.gauges[0].limits = {{}, 0.5 * (widths[2] + widths[3])}, set.gauges[0].unit = "mm";
    save_gauges(cell().tray.path("gauges.toml"), set);
    Station strict(station.file());
    report = strict.examine(picture, strict.file().setup.robot_from_world);
    CHECK(report.verdict == Verdict::bad);
    int bad = 0, withheld = 0;
    for (const ReportedPart& p : report.parts) {
      bad += p.verdict == Verdict::bad, withheld += p.withheld == "bad";
      CHECK(p.robot);  // a bad part keeps its pose
    }
    CHECK(bad == 2);
    CHECK(withheld == (keeps ? 2 : 0));
  }
}

TEST_CASE("a station whose gauges cannot work is refused before the first picture") {
  const std::string text = station_with_gauges("");
  GaugeSet set = load_gauges(cell().tray.path("gauges.toml"));
  const auto refused = [&](const GaugeSet& changed, const std::string& of = "") {
    save_gauges(cell().tray.path("gauges.toml"), changed);
    return error_of([&] { Station(cell().station(of.empty() ? text : of)); });
  };
  GaugeSet stale = set;
  stale.targets[0].stamp.pixels = "0123456789abcdef";
  CHECK(contains(refused(stale), "taught again"));
  CHECK(contains(error_of([&] {
                   std::string missing = text;
                   missing.replace(missing.find("gauges.toml"), 11, "nothing.toml");
                   Station(cell().station(missing));
                 }),
                 "nothing.toml"));
  GaugeSet pixels = set;
  pixels.gauges[0].limits = {1.0, 2.0}, pixels.gauges[0].unit = "px";
  CHECK(contains(refused(pixels), "limits in px"));
  CHECK(refused(set).empty());
}
