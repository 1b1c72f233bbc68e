// Stations whose camera delivers height maps.
#include <doctest/doctest.h>

#include "heron/files/ground_file.hpp"
#include "heron/files/report_json.hpp"
#include "heron/image/relief.hpp"
#include "heron/locate/names.hpp"
#include "station_cell.hpp"

using namespace station_cell;
using namespace heron::render;
using support::contains;
using support::error_of;

namespace {

constexpr int map_side = 480;
constexpr double mm_a_level = 0.04, glaze = 0.62, body_mm = mm_a_level * 230 * glaze;
constexpr Point2 flat_place{-20, 13};  // of a tile, without relief

/// A leaf tile, and how it stands.
struct Standing {
  Pose2 tile;
  double base_mm = 0;  ///< what it stands on
  double lean = 0;     ///< millimetres of height a millimetre along the map's x
};

/// 0.25 mm a pixel along x, `longer` times that along y.
Image<float> map_of(const std::vector<Standing>& tiles, Point2 slope, uint64_t seed, double longer = 1) {
  Image<float> map(map_side, static_cast<int>(map_side / longer));
  const double mx = 0.5 * (map.width() - 1), my = 0.5 * (map.height() - 1);
  std::vector<Image<float>> seen;
  for (const Standing& s : tiles) {
    Scene scene;
    scene.camera = camera_above(600, {.fx = 2400, .fy = 2400 / longer, .cx = mx, .cy = my});
    scene.width = map.width(), scene.height = map.height();
    scene.background = 0;
    scene.pieces = tile_pieces("leaf", s.tile, glaze);
    seen.push_back(exact_picture(scene));
  }
  Random random(seed);
  for (int y = 0; y < map.height(); ++y)
    for (int x = 0; x < map.width(); ++x) {
      double height = 0;
      for (size_t i = 0; i < tiles.size(); ++i)
        if (const float level = seen[i](x, y); level > 0)
          height = std::max(height, mm_a_level * static_cast<double>(level) + tiles[i].base_mm +
                                        tiles[i].lean * (0.25 * (x - mx) - tiles[i].tile.x));
      map(x, y) = static_cast<float>(height + 7 + slope.x * 0.25 * (x - mx) +
                                     slope.y * 0.25 * longer * (y - my) + 0.01 * random.normal());
    }
  for (int holes = 0; holes < map_side; ++holes) {
    const int y = random.whole(0, map.height() - 1), x0 = random.whole(0, map.width() - 9);
    for (int x = x0; x < x0 + 8; ++x) map(x, y) = NAN;
  }
  return map;
}

/// A folder with maps, the taught leaf and a station.
struct StackCell {
  support::TemporaryFolder folder;
  std::vector<std::string> names;

  StackCell() {
    std::filesystem::create_directory(folder / "maps");
    const Image<float> map = map_of({{}}, {}, 1);
    const Region region = Region::rectangle({0.5 * (map_side - 1), 0.5 * (map_side - 1)}, 204, 152, {});
    const double step = relief_step(map, region.mask(map_side, map_side));
    const Relief relief = relief_of(map, step);
    const PartFromGrasp grasp(flat_place.x, flat_place.y, {});
    save_target(folder / "leaf.png", teach_pattern(relief.pixels, region,
                                                   {.name = "leaf",
                                                    .height_step_mm = step,
                                                    .options = {.min_contrast = 8 * step},
                                                    .geometry = {.grasp = grasp}},
                                                   relief.valid));
  }
  void add(const Image<float>& map, std::optional<Point2> pitch) {
    Picture picture;
    picture.pixels = map, picture.pitch_mm = pitch;
    names.push_back(std::to_string(names.size() + 1) + ".tif");
    save_picture(folder / ("maps/" + names.back()), picture);
  }
  StationFile file(const std::string& heights, const std::string& more = "") const {
    support::write_text(
        folder / "s.toml",
        "version = 1\nname = \"stack\"\n[camera]\nrecording = \"maps\"\n[heights]\n" + heights +
            "\n[frame]\nmount = \"fixed\"\nrobot_from_board = [300, -40, 30]\n[[target]]\nfile = "
            "\"leaf.png\"\n" +
            more +
            "[link]\nprotocol = \"text\"\nconnect = \"127.0.0.1:1\"\nmode = \"push\"\nfields = [\"x\", "
            "\"y\", \"z\", \"angle\"]\n");
    return load_station(folder / "s.toml");
  }
  /// What the station makes of its first map.
  Report first(const std::string& heights) const {
    Station station(file(heights));
    station.begin_dry_run();
    return station.next().value();
  }
};

const Pose2 low{-21, 12, 25_deg}, high{24, -16, -140_deg};

}  // namespace

TEST_CASE(
    "parts on a leaning table, one of them on a stack: place, height and level, on pixels of any pitch") {
  StackCell cell;
  cell.add(map_of({{low}, {high, 10}}, {0.02, -0.03}, 5, 1.25), Point2{0.25, 0.3125});
  Station station(cell.file("ground = \"each\"\ntable_z = 100"));
  station.begin_dry_run();
  const auto report = station.next();
  REQUIRE(report);
  REQUIRE(report->parts.size() == 2);
  const RobotFromWorld robot_from_world(Pose2{300, -40, 30_deg});
  for (const ReportedPart& part : report->parts) {
    const bool is_high = part.detection.measurement(measurement::height_mm) > 10;
    const Pose2& tile = is_high ? high : low;
    const Pose2 grasp = robot_from_world.plain() * tile * Pose2{flat_place.x, flat_place.y, {}};
    REQUIRE(part.robot);
    CHECK(std::abs(part.robot->x_mm - grasp.x) < 0.05);
    CHECK(std::abs(part.robot->y_mm - grasp.y) < 0.05);
    CHECK(std::abs(part.robot->z_mm - (100 + body_mm + (is_high ? 10 : 0))) < 0.02);
    CHECK(std::abs((part.robot->angle.turn() - grasp.angle).wrapped().degrees()) < 0.1);
    CHECK(part.detection.measurement(measurement::height_tilt) < 0.3);
    CHECK(part.detection.measurement(measurement::height_sigma) < 0.005);
    CHECK(part.detection.measurement(measurement::height_share) > 0.6);
  }
  CHECK(contains(station.sent_text(*report), "COUNT 2"));
  const Report read = report_of_json(report_json(*report), "here");
  CHECK(read.parts[0].detection.measurement(measurement::height_mm) ==
        report->parts[0].detection.measurement(measurement::height_mm));
  // What is drawn lies on the leveled map of square pixels.
  const Image<uint8_t> view = station.view(station.picture());
  CHECK(view.width() == map_side);
  CHECK(std::abs(view.height() - map_side) <= 1);
  const Detection& d = report->parts[0].detection;
  CHECK(view(static_cast<int>(d.x), static_cast<int>(d.y)) > view(5, 5));
}

TEST_CASE("a part outside the band is a miss that says how high it lies") {
  StackCell cell;
  cell.add(map_of({{low}, {high, 10}}, {0.01, 0}, 6), Point2{0.25, 0.25});
  const Report report = cell.first("ground = \"each\"\nband = [1, 12]");
  CHECK(report.parts.size() == 1);
  REQUIRE_FALSE(report.misses.empty());
  CHECK(report.misses[0].reasons[0].name == limit::height);
  CHECK(std::abs(report.misses[0].reasons[0].value - (10 + body_mm)) < 0.05);
  CHECK(report.misses[0].reasons[0].needed == "1 to 12");
}

TEST_CASE("a part that leans is withheld, and one whose height is not known has no place for the robot") {
  StackCell cell;
  Image<float> map = map_of({{low, 0, 0.1}, {high}}, {}, 7);
  // Around the grasp of the second nothing was measured.
  const Point2 grasp = (high * Pose2{flat_place.x, flat_place.y, {}}).position();
  for (int y = 0; y < map_side; ++y)
    for (int x = 0; x < map_side; ++x)
      if (distance({0.25 * (x - 239.5), -0.25 * (y - 239.5)}, grasp) < 2.7) map(x, y) = NAN;
  cell.add(map, Point2{0.25, 0.25});
  Station station(cell.file("ground = \"each\"\nmax_tilt = 4"));
  station.begin_dry_run();
  const auto report = station.next();
  REQUIRE(report);
  REQUIRE(report->parts.size() == 2);
  int leaning = 0, unknown = 0;
  for (const ReportedPart& part : report->parts) {
    if (contains(part.withheld, "degrees, at most 4 are allowed") &&
        std::abs(*part.detection.measurement(measurement::height_tilt) - 5.71) < 0.1)
      ++leaning;
    if (contains(part.withheld, "its height is not known") && !part.robot) ++unknown;
  }
  CHECK(leaning == 1);
  CHECK(unknown == 1);
  CHECK(contains(station.sent_text(*report), "COUNT 0"));
}

TEST_CASE("a map without a table is a result with its reason, and the station goes on") {
  StackCell cell;
  Image<float> nothing(map_side, map_side);
  for (int y = 0; y < map_side; ++y) std::fill_n(nothing.row(y), map_side, NAN);
  cell.add(nothing, Point2{0.25, 0.25});
  cell.add(map_of({{low}}, {}, 8), Point2{0.25, 0.25});
  Station station(cell.file("ground = \"each\""));
  station.begin_dry_run();
  const auto none = station.next();
  REQUIRE(none);
  CHECK(none->parts.empty());
  CHECK(contains(none->unusable, "no table"));
  CHECK(report_of_json(report_json(*none), "here").unusable == none->unusable);
  CHECK(station.view(station.picture()).width() == map_side);
  CHECK(station.next()->parts.size() == 1);
}

TEST_CASE("a known table, and a pitch that the maps do not say") {
  StackCell cell;
  const Image<float> map = map_of({{low}}, {0.02, 0}, 9);
  cell.add(map, std::nullopt);
  CHECK(contains(error_of([&] { cell.first("ground = \"each\""); }), "give pitch = [X, Y]"));
  const Report each = cell.first("ground = \"each\"\npitch = [0.25, 0.25]");
  REQUIRE(each.parts.size() == 1);
  save_ground(cell.folder / "ground.toml", find_ground(map_of({}, {0.02, 0}, 10), {0.25, 0.25}).plane);
  const Report known = cell.first("ground = \"ground.toml\"");
  REQUIRE(known.parts.size() == 1);
  CHECK(std::abs(known.parts[0].robot->z_mm - body_mm) < 0.02);
  CHECK(std::abs(known.parts[0].robot->x_mm - each.parts[0].robot->x_mm) < 0.02);
}

TEST_CASE("pixel sizes that contradict each other are refused") {
  StackCell cell;
  cell.add(map_of({{low}}, {}, 9), Point2{0.25, 0.5});  // the sensor was set otherwise since
  save_ground(cell.folder / "ground.toml", find_ground(map_of({}, {}, 10), {0.25, 0.25}).plane);
  CHECK(contains(error_of([&] { cell.first("ground = \"ground.toml\""); }), "find the table again"));
  CHECK(contains(error_of([&] { cell.first("ground = \"ground.toml\"\npitch = [0.25, 0.5]"); }),
                 "find the table again with the right one"));
  CHECK(cell.first("ground = \"ground.toml\"\npitch = [0.25, 0.25]").parts.size() ==
        1);  // the user knows better
}

TEST_CASE("pictures and height maps are not mixed up") {
  StackCell cell;
  cell.add(map_of({{low}}, {}, 9), Point2{0.25, 0.25});
  CHECK(contains(error_of([&] { cell.first("ground = \"nowhere.toml\""); }), "nowhere.toml"));
  CHECK(contains(error_of([&] { cell.file("ground = \"each\"\nband = [12, 1]"); }), "swapped"));
  CHECK(contains(error_of([&] { cell.file("ground = \"each\"\nmax_tilt = 91"); }), "from 0 to 90"));
  CHECK(contains(error_of([&] { cell.file("ground = \"each\"\npitch = [0, 1]"); }), "above 0"));
  save_picture(cell.folder / "maps/1.png", Image<uint8_t>(map_side, map_side).view());
  CHECK(contains(error_of([&] { cell.first("ground = \"each\""); }), "1.png is no height map"));
  std::filesystem::copy(cell.folder / "leaf.png", station_cell::cell().tray.path("relief-leaf.png"));
  std::string text =
      station_cell::cell().text(station_cell::cell().fixed(), "connect = \"127.0.0.1:1\"\nmode = \"push\"");
  text.replace(text.find("\"leaf.png\""), 10, "\"relief-leaf.png\"");
  CHECK(contains(error_of([&] { const Station station(station_cell::cell().station(text)); }),
                 "was taught from a height map; give the station [heights]"));
  std::filesystem::remove(cell.folder / "leaf.png");
  std::filesystem::copy(station_cell::cell().tray.path("leaf.png"), cell.folder / "leaf.png");
  CHECK(contains(error_of([&] { const Station station(cell.file("ground = \"each\"")); }),
                 "was taught from a picture, and this set-up looks at height maps"));
}

TEST_CASE("a stored height map is looked at again") {
  StackCell cell;
  cell.add(map_of({{low}}, {0.01, 0.02}, 11), Point2{0.25, 0.25});
  Picture picture = load_picture(cell.folder / "maps/1.tif");
  PictureFolder pictures(cell.folder / "kept", 10);
  CHECK(pictures.keep(17, picture).empty());
  const std::string path = PictureFolder::find(cell.folder / "kept", 17);
  CHECK(path.ends_with("000017.tif"));
  Station station(cell.file("ground = \"each\""));
  const Report then = station.examine(picture, station.file().setup.robot_from_world),
               now = station.examine(load_picture(path), station.file().setup.robot_from_world);
  REQUIRE(now.parts.size() == 1);
  CHECK(now.parts[0].robot->z_mm == then.parts[0].robot->z_mm);
}

TEST_CASE("a height map shows what stands in a hand's way, whatever it is, and where it does not know") {
  const Pose2 tile{5, -10, {}};
  // Across the tile at the flat place: fingers 20 to 23 mm from the grasp along Y, reaching 3 mm below its
  // face.
  const std::string hand =
      "grasps = [[-20, 13, 90], [-20, 10, 90]]\n[gripper]\nopen_mm = 64\nfinger = [3, 6]\npalm = [60, "
      "20]\nlength_mm = 30\ndepth_mm = 3\nclearance_mm = 0.5\n";
  const auto look = [&](const std::function<void(Image<float>&)>& change, const std::string& more) {
    StackCell cell;
    Image<float> map = map_of({{tile}}, {}, 5);
    change(map);
    cell.add(map, Point2{0.25, 0.25});
    Station station(cell.file("ground = \"each\"\ntable_z = 100", more));
    station.begin_dry_run();
    return station.next().value();
  };
  /// A box of that height; `from` leads from the flat place to its middle.
  const auto box = [&](Point2 from, double height_mm) {
    return [=](Image<float>& map) {
      const Point2 at = Point2{tile.x, tile.y} + flat_place + from;
      const int x = static_cast<int>(0.5 * (map_side - 1) + at.x / 0.25),
                y = static_cast<int>(0.5 * (map_side - 1) - at.y / 0.25);
      for (int j = y - 4; j <= y + 4; ++j)
        for (int i = x - 4; i <= x + 4; ++i) map(i, j) = static_cast<float>(7 + height_mm);
    };
  };
  const Pose2 robot_from_world{300, -40, 30_deg};
  const auto one = [&](const Report& report) {
    REQUIRE(report.parts.size() == 1);
    return report.parts[0];
  };
  const ReportedPart free = one(look([](Image<float>&) {}, hand));
  CHECK(free.withheld.empty());
  REQUIRE(free.grasp);
  CHECK(free.grasp->number == 1);
  CHECK(std::abs(free.robot->z_mm - (100 + body_mm)) < 0.02);
  // Something 4 mm high below a finger, whose tip is 2.7 mm above the table; 2 mm high, it is no matter.
  const ReportedPart other = one(look(box({0, 34.2}, 4), hand));
  CHECK(other.withheld.empty());
  CHECK(other.grasp->number == 2);
  const Pose2 second = robot_from_world * tile * Pose2{-20, 10, 90_deg};
  CHECK(std::hypot(other.robot->x_mm - second.x, other.robot->y_mm - second.y) < 0.05);
  CHECK(std::abs(other.robot->z_mm - (100 + body_mm)) < 0.02);
  CHECK(one(look(box({0, 34.2}, 2), hand)).grasp->number == 1);
  const std::string only = "grasps = [[-20, 13, 90]]\n" + hand.substr(hand.find("[gripper]"));
  CHECK(contains(one(look(box({0, 34.2}, 4), only)).withheld,
                 "it cannot be gripped: finger 1 would strike something 4.0 mm high"));
  // Below the palm only what is higher than the tips and a finger's length.
  CHECK(one(look(box({0, 22}, 25), only)).withheld.empty());
  CHECK(contains(one(look(box({0, 22}, 40), only)).withheld, "the palm would strike something 40.0 mm high"));
  const auto spikes = [&](Image<float>& map) {
    Random random(3);
    for (int i = 0; i < 3000; ++i) map(random.whole(0, 479), 5 * random.whole(0, 95)) = 60;
  };
  CHECK(one(look(spikes, only)).withheld.empty());
  const ReportedPart unknown = one(look([&](Image<float>& map) { box({0, 34.2}, NAN)(map); }, only));
  CHECK(unknown.withheld.empty());  // a small hole
  CHECK(contains(one(look(
                         [&](Image<float>& map) {
                           for (double x = -3; x <= 3; x += 2) box({x, 33.5}, NAN)(map);
                         },
                         only))
                     .withheld,
                 " of what lies below finger 1 was measured, needed at least 50 %"));
  // A finger that comes down on the part itself.
  std::string narrow = only;
  narrow.replace(narrow.find("64"), 2, "10");
  CHECK(contains(one(look([](Image<float>&) {}, narrow)).withheld, "finger 2 would strike the part itself"));
  // A cup stands on the part, and not on what is as high beside it.
  const std::string cup = "grasps = [[-20, 13, 0]]\n[gripper]\nfingers = 0\npalm = [8, 5]\n";
  CHECK(one(look([](Image<float>&) {}, cup)).withheld.empty());
  CHECK(contains(one(look(box({-4.6, 0}, body_mm + 0.5), cup)).withheld, "the cup would touch something"));
}
