#include <doctest/doctest.h>

#include "heron/files/csv_file.hpp"
#include "heron/files/picture_file.hpp"
#include "heron/files/recording.hpp"
#include "heron/locate/pattern.hpp"
#include "heron/locate/prepared_picture.hpp"
#include "heron/simulation/tray_cell.hpp"
#include "support.hpp"

using namespace heron;

TEST_CASE("known.csv says where the taught origin lies, in plain and in hard trays") {
  for (const bool hard : {false, true}) {
    CAPTURE(hard);
    const support::TemporaryFolder folder;
    const TrayCell cell =
        write_tray_cell(folder / "c", 12, {.views = 3, .leaves = 3, .others = 5, .hard = hard});
    const PatternTarget leaf = teach_pattern(grey_levels(load_picture(cell.path("teach.png"))),
                                             Region::rectangle(cell.teach_region));
    const Recording recording = load_recording(cell.path("tray"));
    const std::vector<NamedRow> known =
        load_named_csv(cell.path("known.csv"), "picture", {"x", "y", "angle"}, {});
    CHECK(known.size() == 9);
    for (size_t i = 0; i < recording.size(); ++i) {
      const FindResult f = find(leaf, PreparedPicture(grey_levels(load_picture(recording.path(i)))),
                                {.thoroughness = Thoroughness::exhaustive});
      CHECK(f.detections.size() == 3);
      for (const NamedRow& row : known) {
        if (row.name != recording.pictures[i].file) continue;
        bool seen = false;
        for (const Detection& s : f.detections)
          seen = seen || (distance({s.x, s.y}, {*row.numbers[0], *row.numbers[1]}) < 0.15 &&
                          std::abs((s.angle - degrees(*row.numbers[2])).wrapped().degrees()) < 0.15);
        CHECK(seen);
      }
    }
  }
}

TEST_CASE("a tray without leaves is known to be empty") {
  const support::TemporaryFolder folder;
  const TrayCell cell = write_tray_cell(folder / "c", 13, {.views = 2, .leaves = 0, .others = 4});
  const std::vector<NamedRow> known =
      load_named_csv(cell.path("known.csv"), "picture", {"x", "y", "angle"}, {});
  REQUIRE(known.size() == 2);
  for (const NamedRow& row : known) CHECK_FALSE(row.numbers[0].has_value());
}

TEST_CASE(
    "a hard tray differs from a plain one in light, blur and what lies over the leaves, not in its leaves") {
  const render::TrayFilling plain{.views = 2, .leaves = 4, .others = 5};
  render::TrayFilling filling = plain;
  filling.hard = true;
  const render::TrayStation easy = render::make_tray_station(14, plain),
                            hard = render::make_tray_station(14, filling);
  const auto leaves = [](const render::TrayView& view) {
    return std::count_if(view.tiles.begin(), view.tiles.end(),
                         [](const auto& t) { return t.kind == "leaf"; });
  };
  for (size_t i = 0; i < 2; ++i) {
    CHECK(leaves(easy.views[i]) == 4);
    CHECK(leaves(hard.views[i]) == 4);
    CHECK(hard.views[i].tiles.back().kind == "mirrored leaf");
    CHECK(hard.views[i].scene.light.level != easy.views[i].scene.light.level);
  }
  CHECK(easy.views[0].tiles[0].table_from_tile.x == hard.views[0].tiles[0].table_from_tile.x);
}
