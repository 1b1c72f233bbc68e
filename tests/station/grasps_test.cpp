// How parts are gripped and where they are put. Truth is the renderer's: camera straight above, table and
// tiles where the test lays them.
#include <doctest/doctest.h>

#include "heron/files/report_json.hpp"
#include "heron/report/field.hpp"
#include "station_cell.hpp"

using namespace station_cell;
using namespace heron::render;
using support::contains;
using support::error_of;

namespace {

constexpr int across = 1000, down = 800;
const Pose2 robot_from_table{500, -100, 35_deg};

struct Lying {
  std::string kind;
  Pose2 pose;
};

Image<uint8_t> picture_of(const std::vector<Lying>& tiles, const std::vector<Piece>& more = {}) {
  std::vector<Piece> pieces;
  for (const Lying& t : tiles)
    for (const Piece& p : tile_pieces(t.kind, t.pose, 0.62)) pieces.push_back(p);
  pieces.insert(pieces.end(), more.begin(), more.end());
  return seen_from_above(across, down, std::move(pieces), 7);
}

/// Leaves to be gripped and kites to lay them on; both taught upright, so that their frames are the tiles'.
struct GraspCell {
  support::TemporaryFolder folder;

  GraspCell() {
    MappingRecord record = flat_mapping(across, down);
    save_mapping(folder / "mapping.toml", record);
    record.axes = Axes{{30, -20}, AxisDirection::plus_y, AxisDirection::plus_x};  // left-handed
    save_mapping(folder / "axes.toml", record);
    for (const char* kind : {"leaf", "kite"}) {
      const Image<uint8_t> taught = picture_of({{kind, {}}});
      save_target(folder / (std::string(kind) + ".png"),
                  teach_pattern(taught, Region::rectangle({400, 310, 200, 180}),
                                {.name = kind, .origin = Point2{499.5, 399.5}}));
    }
    std::filesystem::create_directory(folder / "pictures");
  }
  void show(const Image<uint8_t>& picture) const { save_picture(folder / "pictures/1.png", picture.view()); }
  std::string text(const std::string& target, const std::string& more, const std::string& link = "") const {
    return "version = 1\nname = \"grasps\"\n[camera]\nrecording = \"pictures\"\n[mapping]\nfile = "
           "\"mapping.toml\"\n[frame]\nmount = \"fixed\"\nrobot_from_board = [500, -100, 35]\n[[target]]\n"
           "file = \"leaf.png\"\n" +
           target + more + "[link]\nprotocol = \"text\"\nconnect = \"127.0.0.1:1\"\nmode = \"push\"\n" + link;
  }
  StationFile file(const std::string& text) const {
    support::write_text(folder / "s.toml", text);
    return load_station(folder / "s.toml");
  }
  Report look(const std::string& target, const std::string& more) const { return look(text(target, more)); }
  Report look(const std::string& text) const {
    Station station(file(text));
    station.begin_dry_run();
    return station.next().value();
  }
};

const GraspCell& grasp_cell() {
  static const GraspCell shared;
  return shared;
}

/// The part of the report that lies there on the table.
const ReportedPart& part_at(const Report& report, Point2 table) {
  for (const ReportedPart& p : report.parts)
    if (distance(p.world->position().plain(), table) < 3) return p;
  throw std::runtime_error("no part there");
}

double degrees_apart(WorldAngle a, Angle b) { return std::abs((a.turn() - b).wrapped().degrees()); }

const std::string two_fingers =
    "[gripper]\nopen_mm = 40\nclosed_mm = 33\nfinger = [4, 10]\npalm = [56, 20]\nlength_mm = 30\ndepth_mm = "
    "4\n"
    "clearance_mm = 0.5\nturns = 2\n";

}  // namespace

TEST_CASE("a grasp whose fingers would strike a neighbour gives way to the next that is free") {
  // Leaves are 46 x 33 mm: across them the fingers reach 20 to 24 mm from the middle, with 0.5 mm free.
  const Pose2 alone{-80, 50, 20_deg}, left{-60, -40, {}}, right{-60, -40 + 33 + 6, {}};
  grasp_cell().show(picture_of({{"leaf", alone}, {"leaf", left}, {"leaf", right}}));
  const std::string grasps = "grasps = [[2, 1, 90], [-3, 0, 0]]\n";
  const std::string open_wide = "[gripper]\nopen_mm = 48\nfinger = [2, 10]\n";
  const Report report = grasp_cell().look(grasps, two_fingers);
  REQUIRE(report.parts.size() == 3);
  const ReportedPart& free = part_at(report, {-80, 50});
  CHECK(free.withheld.empty());
  REQUIRE(free.grasp);
  CHECK(free.grasp->number == 1);
  const Pose2 truth = robot_from_table * alone * Pose2{2, 1, 90_deg};
  CHECK(std::hypot(free.robot->x_mm - truth.x, free.robot->y_mm - truth.y) < 0.03);
  CHECK(degrees_apart(free.robot->angle, truth.angle + 180_deg) <
        0.1);  // the turn nearer to the wrist's middle
  for (const Pose2& pose : {left, right}) {
    // Along the leaf the palm and fingers of 40 mm do not fit over its 46 mm, which only heights would show.
    const ReportedPart& part = part_at(report, {pose.x, pose.y});
    CHECK(part.withheld.empty());
    REQUIRE(part.grasp);
    CHECK(part.grasp->number == 2);
    const Pose2 second = robot_from_table * pose * Pose2{-3, 0, {}};
    CHECK(std::hypot(part.robot->x_mm - second.x, part.robot->y_mm - second.y) < 0.03);
    CHECK(degrees_apart(part.robot->angle, second.angle) < 0.1);
    CHECK(part.robot->sigma.x.value() < 0.02);
  }
  // 33 + 6 mm apart, a thin finger that opens to 48 mm stands at 24 to 26 mm: on the neighbour, whatever
  // turn.
  const Report blocked = grasp_cell().look("grasps = [[0, 0, 90]]\n", open_wide);
  const ReportedPart& low = part_at(blocked, {-60, -40});
  CHECK(contains(low.withheld, "it cannot be gripped: finger "));
  CHECK(contains(low.withheld, "would strike leaf (part "));
  REQUIRE(low.grasp);
  CHECK_FALSE(low.grasp->hand.at(0).seen);
  CHECK(part_at(blocked, {-80, 50}).withheld.empty());
  CHECK(sent_of(blocked, 0).parts.size() == 1);
  // With 0.5 mm to spare on both sides of the gap it fits; where the finger moves it does not matter.
  const Report fits = grasp_cell().look("grasps = [[0, 0, 90]]\n",
                                        "[gripper]\nopen_mm = 34\nclosed_mm = 33\nfinger = [4, 10]\n");
  CHECK(part_at(fits, {-60, -40}).withheld.empty());
  CHECK(contains(part_at(grasp_cell().look("grasps = [[0, 0, 90]]\n",
                                           "[gripper]\nopen_mm = 34\nclosed_mm = 33\nfinger = [4, "
                                           "10]\nclearance_mm = 1.6\n"),
                         {-60, -40})
                     .withheld,
                 "would strike"));
}

TEST_CASE("what was turned away still lies there, and a part seen otherwise is not in its own way") {
  grasp_cell().show(picture_of({{"leaf", {-60, -40, {}}}, {"leaf", {-60, 0, 180_deg}}}));
  const std::string narrow = "angle = [-20, 20]\ngrasps = [[0, 0, 90]]\n";
  const std::string wide = "[gripper]\nopen_mm = 48\nfinger = [2, 10]\n";
  const Report report = grasp_cell().look(narrow, wide);
  REQUIRE(report.parts.size() == 1);
  CHECK(contains(report.parts[0].withheld, "would strike what resembles leaf at 259, 399 in the picture"));
  grasp_cell().show(picture_of({{"leaf", {-60, -40, {}}}}));
  CHECK(grasp_cell().look(narrow, wide).parts[0].withheld.empty());
}

TEST_CASE("what is no target is seen beside the empty table, in other light too") {
  const auto dimmed = [](Image<uint8_t> picture, double light) {
    for (int y = 0; y < picture.height(); ++y)
      for (int x = 0; x < picture.width(); ++x)
        picture(x, y) = static_cast<uint8_t>(std::lround(light * picture(x, y)));
    return picture;
  };
  save_picture(grasp_cell().folder / "empty.png", picture_of({}).view());
  // A peg of 2 mm where finger 1 comes down on the leaf at (0, 0), nothing at the other.
  const std::vector<Piece> peg{{disc(1, {0, 22}), {}, 0.4}};
  const std::string grasps = "grasps = [[0, 0, 90], [-3, 0, 90]]\n", table = "table = \"empty.png\"\n";
  for (const double light : {1.0, 0.6}) {
    grasp_cell().show(dimmed(picture_of({{"leaf", {0, 0, {}}}, {"leaf", {-60, 60, 30_deg}}}, peg), light));
    const Report unseen = grasp_cell().look(grasps, two_fingers);
    CHECK(part_at(unseen, {0, 0}).withheld.empty());
    const Report seen = grasp_cell().look("grasps = [[0, 0, 90]]\n", two_fingers + table);
    CHECK(
        contains(part_at(seen, {0, 0}).withheld,
                 "it cannot be gripped: finger 2 would strike something that the empty table does not have"));
    CHECK(part_at(seen, {-60, 60}).withheld.empty());
  }
  const auto refused = [&](std::string text, const std::string& from, const std::string& to) {
    if (!from.empty()) text.replace(text.find(from), from.size(), to);
    return error_of([&] { const Station s(grasp_cell().file(text)); });
  };
  const std::string text = grasp_cell().text("", two_fingers + table);
  CHECK(contains(refused(text, "empty.png", "gone.png"), "gone.png"));
  CHECK(contains(refused(text, "empty.png", "leaf.png"), "was made with 1000 x 800"));
  std::string arm = text;
  arm.replace(arm.find("\"fixed\""), 7, "\"arm\""), arm.replace(arm.find("robot_from"), 10, "flange_from");
  arm.replace(arm.find("\"push\""), 6, "\"ask\"");
  CHECK(contains(refused(arm, "", ""), "moves with the arm"));
}

TEST_CASE("a hand a thousand times too large is in everything's way, at once") {
  grasp_cell().show(picture_of({{"leaf", {0, 0, {}}}}));
  save_picture(grasp_cell().folder / "empty.png", picture_of({}).view());
  const auto begun = std::chrono::steady_clock::now();
  const Report report =
      grasp_cell().look("", "[gripper]\nopen_mm = 0\nfinger = [900000, 900000]\ntable = \"empty.png\"\n");
  CHECK_FALSE(report.parts.at(0).withheld.empty());
  CHECK(std::chrono::steady_clock::now() - begun < 20s);
}

TEST_CASE("a part past the plane's horizon has no place, and the others are gripped all the same") {
  // Seen by this mapping the horizon lies between the two; the picture is the one from straight above.
  MappingRecord record = load_mapping(grasp_cell().folder / "mapping.toml");
  record.mapping = Mapping(
      CameraMapping(camera_above(600, {.fx = 2400, .fy = 2400, .cx = 499.5, .cy = 399.5}, 85_deg, 90_deg),
                    CameraMapping::Covariance::Zero()));
  save_mapping(grasp_cell().folder / "horizon.toml", record);
  grasp_cell().show(picture_of({{"leaf", {0, 72, {}}}, {"leaf", {0, -72, {}}}}));
  std::string text = grasp_cell().text("", two_fingers);
  text.replace(text.find("mapping.toml"), 12, "horizon.toml");
  const Report report = grasp_cell().look(text);
  REQUIRE(report.parts.size() == 2);
  int sent = 0;
  for (const ReportedPart& p : report.parts) sent += p.robot && p.withheld.empty();
  CHECK(sent == 1);
}

TEST_CASE("walls, the reach and the wrist limit grasps, each by its own words") {
  grasp_cell().show(picture_of({{"leaf", {0, 0, {}}}}));
  const auto withheld = [&](const std::string& more) {
    return grasp_cell().look("", two_fingers + more).parts.at(0).withheld;
  };
  const Pose2 at = robot_from_table;  // the grasp is the tile's own pose
  const auto corner = [&](double x, double y) {
    const Point2 p = at * Point2{x, y};
    return "[" + std::to_string(p.x) + ", " + std::to_string(p.y) + "]";
  };
  const auto wall = [&](double from, double to, double top) {
    return "[[gripper.wall]]\nname = \"clamp\"\ncorners = [" + corner(from, -5) + ", " + corner(to, -5) +
           ", " + corner(to, 5) + ", " + corner(from, 5) + "]\ntop_mm = " + std::to_string(top) + "\n";
  };
  CHECK(withheld("").empty());
  CHECK(contains(withheld(wall(22, 23, 3)), "finger 1 would strike clamp"));
  CHECK(contains(withheld(wall(-23, -22, 3)), "finger 2 would strike clamp"));
  CHECK(contains(withheld(wall(17, 19, 3)), "finger 1 would close on clamp"));
  CHECK(withheld(wall(22, 23, -5)).empty());  // below the tips, which come 4 mm below the part's face
  CHECK(withheld(wall(27, 29, 20)).empty());  // below the palm, which is 26 mm above it
  CHECK(contains(withheld(wall(27, 28.4, 27)), "the palm would strike clamp"));
  CHECK(withheld(wall(28.6, 30, 100)).empty());  // past it, with half a millimetre free
  CHECK(contains(withheld("wrist = [40, 100]\n"),
                 "the wrist would turn to 35.0 degrees, allowed are 40 to 100"));
  CHECK(withheld("wrist = [180, 230]\n").empty());  // 35 + 180
  CHECK(grasp_cell().look("", two_fingers + "wrist = [180, 230]\n").parts[0].robot->angle.degrees() ==
        doctest::Approx(-145).epsilon(0.001));
  CHECK(withheld("reach = [[490, -110], [510, -110], [510, -90], [490, -90]]\n").empty());
  CHECK(contains(withheld("reach = [[510, -110], [530, -110], [530, -90]]\n"), "it lies outside the reach"));
}

TEST_CASE("a round part is gripped at any angle that is free, and that angle is sent") {
  const std::vector<Piece> discs{{disc(8, {-50, 20}), {}, 0.8}, {disc(8, {-50, 38.5}), {}, 0.8}};
  const Image<uint8_t> picture = picture_of({}, discs);
  grasp_cell().show(picture);
  const Point2 first{499.5 - 200, 399.5 - 80};
  save_target(
      grasp_cell().folder / "disc.png",
      teach_target("marker",
                   TeachingPicture{.grey = picture.view(), .region = Region::rectangle(first, 90, 66, {})},
                   {.name = "disc"}));
  std::string text = grasp_cell().text("", "[gripper]\nopen_mm = 18\nfinger = [3, 4]\n");
  text.replace(text.find("leaf.png"), 8, "disc.png");
  const Report report = grasp_cell().look(text);
  REQUIRE(report.parts.size() == 2);
  for (const ReportedPart& p : report.parts) {
    CHECK_FALSE(p.detection.has_angle);
    CHECK(p.withheld.empty());
    // The neighbour lies along the table's Y: fingers across it.
    const double off = std::abs(std::remainder(p.robot->angle.degrees() - 35, 180));
    CHECK(off < 61);
    CHECK(std::holds_alternative<double>(field_of(sent_of(report, 0), 0, "angle")));
  }
  const Report read = report_of_json(report_json(report), "here");
  CHECK(read.parts[0].robot->angle.degrees() == doctest::Approx(report.parts[0].robot->angle.degrees()));
}

TEST_CASE("grasps keep to the part where the user's axes are left-handed") {
  const Pose2 tile{-30, 24, 50_deg};
  grasp_cell().show(picture_of({{"leaf", tile}}));
  std::string text =
      grasp_cell().text("grasps = [[10, 4, 30], [-12, 3, 0]]\n",
                        two_fingers + "reach = [[-400, -400], [400, -400], [400, 400], [-400, 400]]\n");
  text.replace(text.find("mapping.toml"), 12, "axes.toml");
  text.replace(text.find("robot_from_board = [500, -100, 35]"), 34, "robot_from_axes = [7, 9, 0]");
  const Report report = grasp_cell().look(text);
  REQUIRE(report.parts.size() == 1);
  CHECK(report.parts[0].withheld.empty());
  const Pose2 table =
      tile * Pose2{10, 4, 30_deg};  // X along the table's +Y, Y along its +X, zero at (30, -20)
  CHECK(report.parts[0].robot->x_mm == doctest::Approx(table.y + 20 + 7).epsilon(0.0005));
  CHECK(report.parts[0].robot->y_mm == doctest::Approx(table.x - 30 + 9).epsilon(0.001));
  const double mirrored = 90 - table.angle.degrees();
  CHECK(std::abs(std::remainder(report.parts[0].robot->angle.degrees() - mirrored, 180)) < 0.1);
  // The hand is drawn where it stands in the picture: its fingers at 22 mm on both sides of the grasp.
  const Pose2 pixels{499.5 + 4 * table.x, 399.5 - 4 * table.y, -table.angle};
  Point2 middle{};
  for (const Point2 p : report.parts[0].grasp->hand.at(0).points) middle += p / 4;
  CHECK(std::abs(distance(middle, {pixels.x, pixels.y}) - 88) < 0.5);
  CHECK(std::abs(cross(unit(pixels.angle), middle - Point2{pixels.x, pixels.y})) < 0.5);
}

TEST_CASE("each part is put on a nest of its own, and lies there as the nest says, however it was gripped") {
  const Pose2 a{-80, 50, 20_deg}, b{-60, -40, -100_deg}, nest_1{60, 40, 75_deg}, nest_2{50, -50, 140_deg};
  grasp_cell().show(picture_of({{"leaf", a}, {"leaf", b}, {"kite", nest_1}, {"kite", nest_2}}));
  const std::string grasps = "grasps = [[6, -2, 90]]\n";
  const Pose2 nest_from_part{3, -5, 30_deg};
  const std::string place = "[place]\nnest = \"kite.png\"\nat = [3, -5, 30]\n";
  const Report report = grasp_cell().look(grasps, two_fingers + "retreat_mm = 40\n" + place);
  REQUIRE(report.parts.size() == 2);
  REQUIRE(report.nests.size() == 2);
  for (const ReportedPart& p : report.parts) {
    REQUIRE(p.place);
    const Pose2& tile = distance(p.world->position().plain(), {a.x, a.y}) < 3 ? a : b;
    // The robot takes the part where it truly lies, and carries it along.
    const Pose2 taken{p.robot->x_mm, p.robot->y_mm, p.robot->angle.turn()},
        put{p.place->x_mm, p.place->y_mm, p.place->angle.turn()};
    const Pose2 part = put * taken.inverse() * robot_from_table * tile;
    double best = 1e9, turned = 180;
    for (const Pose2& nest : {nest_1, nest_2}) {
      const Pose2 goal = robot_from_table * nest * nest_from_part;
      const double off = std::hypot(part.x - goal.x, part.y - goal.y);
      if (off < best) best = off, turned = std::abs((part.angle - goal.angle).wrapped().degrees());
    }
    CHECK(turned < 0.2);
    CHECK(best < 0.06);
    CHECK(p.place->sigma.x.value() > p.robot->sigma.x.value());
    CHECK(p.place->z_mm == 0);
    CHECK(p.grasp->retreat_z_mm == 40);
    CHECK_FALSE(p.grasp->approach_z_mm);
  }
  CHECK(distance(report.parts[0].place->position(), report.parts[1].place->position()) > 50);
  const Report read = report_of_json(report_json(report), "here");
  REQUIRE(read.parts.at(1).place);
  CHECK(read.parts[1].place->y_mm == doctest::Approx(report.parts[1].place->y_mm));
  CHECK(read.parts[1].grasp->retreat_z_mm == 40);
  CHECK(read.nests.size() == 2);
  // One nest for two, one for all, and none.
  grasp_cell().show(picture_of({{"leaf", a}, {"leaf", b}, {"kite", nest_1}}));
  const Report one = grasp_cell().look(grasps, place);
  CHECK(one.parts.at(0).withheld.empty());
  CHECK(one.parts.at(1).withheld == "there is no nest for it: 1 found");
  const Report shared = grasp_cell().look(grasps, place + "shared = true\nz_mm = 12.5\n");
  REQUIRE(shared.parts.at(1).place);
  CHECK(shared.parts[1].place->z_mm == 12.5);
  grasp_cell().show(picture_of({{"leaf", a}}));
  CHECK(grasp_cell().look(grasps, place).parts.at(0).withheld == "no nest was found for it");
}

TEST_CASE("grasps and places are sent as fields, and a field that would always be missing is refused") {
  grasp_cell().show(picture_of({{"leaf", {}}, {"kite", {60, 40, {}}}}));
  const std::string place = "[place]\nnest = \"kite.png\"\n";
  const std::string fields = "fields = [\"x\", \"grasp\", \"approach_z\", \"place_x\", \"place_angle\"]\n";
  Station station(grasp_cell().file(
      grasp_cell().text("grasps = [[1, 0, 0]]\n", two_fingers + "approach_mm = 50\n" + place, fields)));
  station.begin_dry_run();
  const auto report = station.next();
  const std::string sent = station.sent_text(*report);
  CHECK(contains(sent, "PART 1 1 leaf 500.8"));
  CHECK(contains(sent, " 1 50.0000 5"));
  const auto refused = [&](const std::string& more) {
    return error_of([&] { const Station s(grasp_cell().file(grasp_cell().text("", more, fields))); });
  };
  CHECK(contains(refused(two_fingers + place),
                 "the link sends 'approach_z', which needs approach_mm in [gripper]"));
  CHECK(
      contains(refused(two_fingers + "approach_mm = 5\n"), "the link sends 'place_x', which needs [place]"));
}

TEST_CASE("what a gripper's tables cannot mean is refused with the place in the file") {
  const auto refused = [&](const std::string& target, const std::string& more) {
    return error_of([&] { const Station s(grasp_cell().file(grasp_cell().text(target, more))); });
  };
  CHECK(contains(refused("", "[gripper]\nfinger = [1, 2]\n"), "open_mm"));
  CHECK(contains(refused("", "[gripper]\nopen_mm = 5\nfinger = [0, 2]\n"), "THICKNESS, WIDTH"));
  CHECK(contains(refused("", "[gripper]\nopen_mm = -5\nfinger = [1, 2]\n"), "from 0 to"));
  CHECK(contains(refused("", "[gripper]\nfingers = 0\npalm = [8, 8]\nopen_mm = 4\n"), "belongs to fingers"));
  CHECK(contains(refused("", "[gripper]\nfingers = 0\n"), "palm"));
  CHECK(contains(refused("", "[gripper]\nfingers = 13\n"), "from 0, a cup, to 12"));
  CHECK(contains(refused("", two_fingers + "wrist = [50, -50]\n"), "swapped"));
  CHECK(contains(refused("", two_fingers + "wrist = [-500, 50]\n"), "within -360 and 360"));
  CHECK(contains(refused("", two_fingers + "reach = [[0, 0], [1, 1]]\n"), "three corners"));
  const std::string wall = two_fingers + "[[gripper.wall]]\nname = \"w\"\ntop_mm = 5\ncorners = ";
  CHECK(contains(refused("", wall + "[[0, 0], [10, 0], [2, 2], [0, 10]]\n"), "convex"));
  CHECK(contains(refused("", wall + "[[0, 0], [10, 10], [10, 0], [0, 10]]\n"), "convex"));
  CHECK(contains(refused("", wall + "[[0, 0], [10, 0], [20, 0]]\n"), "convex"));
  CHECK(contains(refused("", two_fingers + "colour = 3\n"), "colour"));
  CHECK(contains(refused("grasps = []\n", ""), "grasps"));
  CHECK(contains(refused("grasps = [[1, 2]]\n", ""), "grasps"));
  CHECK(contains(refused("grasps = [[1, 2, 900]]\n", ""), "within 360"));
  CHECK(contains(refused("", "[place]\nat = [0, 0, 0]\n"), "nest"));
  CHECK(contains(refused("", "[place]\nnest = \"gone.png\"\n"), "gone.png"));
  CHECK(contains(refused("", "[place]\nnest = \"leaf.png\"\n"), "cannot be put on itself"));
  CHECK(contains(refused("", two_fingers + "[[target]]\nfile = \"leaf.png\"\ngrasps = [[9, 9, 9]]\n"),
                 "two targets are named 'leaf'"));
}
