// A camera that is bumped into, and the ring marks that say where it stands now.
#include <doctest/doctest.h>

#include "heron/calibrate/ring_anchor.hpp"
#include "heron/files/report_json.hpp"
#include "heron/render/random.hpp"
#include "heron/report/field.hpp"
#include "heron/station/compare_reports.hpp"
#include "station_cell.hpp"

using namespace station_cell;
using support::contains;
using support::error_of;

namespace {

const Pose2 on_the_table{30, 20, 35_deg};
constexpr int width = 1280, height = 1024;

struct LaidMark {
  RingShape shape;
  Pose2 at;
};
const std::vector<LaidMark> laid{
    {{3, 22}, {-65, -50, 20_deg}}, {{8, 22}, {70, -45, -75_deg}}, {{15, 22}, {5, 58, 140_deg}}};

/// A camera, leaves and marks before it; calibrated exactly, since the truth is known.
struct Table {
  support::TemporaryFolder folder;
  CameraModel camera = render::camera_above(
      420, {.fx = 1900, .fy = 1902, .cx = 645, .cy = 509, .k1 = -0.1, .k2 = 0.03}, 6_deg, 40_deg, 10_deg);

  Image<uint8_t> seen(const CameraModel& by, const std::vector<LaidMark>& marks, uint64_t seed,
                      const Pose2& leaf = on_the_table) const {
    render::Scene scene;
    scene.camera = by;
    scene.width = width, scene.height = height, scene.background = 0.12;
    scene.texture = 0.01, scene.texture_seed = 5;
    for (const LaidMark& m : marks) {
      scene.pieces.push_back(
          {render::rectangle(1.5 * m.shape.diameter_mm, 1.5 * m.shape.diameter_mm), m.at, 0.88});
      scene.pieces.push_back({render::ring_mark(m.shape), m.at, 0.06});
    }
    for (render::Piece& p : render::tile_pieces("leaf", leaf, 0.7)) scene.pieces.push_back(std::move(p));
    render::Random random(seed);
    return expose(exact_picture(scene), {.sigma = 2}, random);
  }

  Table() {
    const Image<uint8_t> reference = seen(camera, laid, 1);
    MappingRecord record;
    record.mapping = Mapping(CameraMapping(camera));
    record.width = width, record.height = height, record.date = "2026-01-01T00:00:00Z";
    save_mapping(folder / "without.toml", record);
    for (const RingSeen& r : find_ring_marks(reference))
      record.anchors.push_back(anchor_ring(record.mapping, r));
    REQUIRE(record.anchors.size() == 3);
    save_mapping(folder / "mapping.toml", record);
    const Point2 at = record.mapping.pixel_from_world(WorldPoint(on_the_table.position()), 0);
    save_target(
        folder / "leaf.png",
        teach_pattern(reference, Region::rectangle({at.x - 110, at.y - 110, 220, 220}), {.name = "leaf"}));
    save_picture(folder / "reference.png", reference.view());
  }

  /// After a bump: turned about the axes of the camera, and shifted.
  CameraModel bumped(const Eigen::Vector3d& turn, const Eigen::Vector3d& shift) const {
    CameraModel now = camera;
    now.camera_from_world = Pose3{turn_of(turn), shift} * camera.camera_from_world;
    return now;
  }

  std::string text(const std::string& marks, const std::string& mapping = "mapping.toml",
                   const std::string& more = "") const {
    return "version = 1\nname = \"table\"\n[camera]\nrecording = \"none\"\n[mapping]\nfile = \"" + mapping +
           "\"\n" + marks +
           "\n[frame]\nmount = \"fixed\"\nrobot_from_board = [400, -20, 75]\n[[target]]\nfile = "
           "\"leaf.png\"\n" +
           more +
           "[link]\nprotocol = \"lines\"\nlisten = \"127.0.0.1:0\"\nmode = \"push\"\n"
           "line = \"{unusable} {marks_shift} {marks_turn}\"\n";
  }
  StationFile file(const std::string& content) const {
    support::write_text(folder / "station.toml", content);
    return load_station(folder / "station.toml");
  }
};

const Table& table() {
  static const Table shared;
  return shared;
}

class ListedPictures : public Camera {
 public:
  explicit ListedPictures(std::vector<Image<uint8_t>> pictures) : pictures_(std::move(pictures)) {}
  CameraInfo info() const override {
    CameraInfo info;
    info.address = "listed", info.width = width, info.height = height;
    return info;
  }
  std::optional<Picture> take() override {
    if (at_ == pictures_.size()) return std::nullopt;
    Picture picture;
    picture.name = std::to_string(at_ + 1) + ".png";
    picture.pixels = pictures_[at_++];
    return picture;
  }

 private:
  std::vector<Image<uint8_t>> pictures_;
  size_t at_ = 0;
};

struct Looked {
  std::vector<Report> reports;
  std::vector<std::string> told, sent;
  std::string error;
};

Looked look(const std::string& marks, std::vector<Image<uint8_t>> pictures) {
  Looked looked;
  StationFile file = table().file(table().text(marks));
  file.link.warn = [&](const std::string& what) { looked.told.push_back(what); };
  Station station(std::move(file), std::make_unique<ListedPictures>(std::move(pictures)));
  station.begin_dry_run();
  looked.error = error_of([&] {
    while (auto report = station.next()) {
      looked.sent.push_back(station.sent_text(*report));
      looked.reports.push_back(std::move(*report));
    }
  });
  return looked;
}

const std::string free_marks = "marks = true\nmotion = \"free\"\n";

/// How far the first leaf is from where `other` has it.
double apart(const Report& report, const Report& other) {
  REQUIRE(report.parts.size() == 1);
  const RobotPose &a = report.parts[0].robot.value(), &b = other.parts.at(0).robot.value();
  return std::hypot(a.x_mm - b.x_mm, a.y_mm - b.y_mm);
}

}  // namespace

TEST_CASE("the robot goes to the same place before and after the camera was bumped into") {
  const Table& t = table();
  render::Random random(11);
  std::vector<Image<uint8_t>> pictures{t.seen(t.camera, laid, 2)};
  for (uint64_t k = 0; k < 6; ++k) {
    const auto three = [&](double by) -> Eigen::Vector3d {
      return Eigen::Vector3d(random.normal(), random.normal(), random.normal()) * by;
    };
    pictures.push_back(t.seen(t.bumped(three(0.004), three(1)), laid, 3 + k));
  }
  const Looked with = look(free_marks + "max_shift_mm = 20", pictures);
  CHECK_MESSAGE(with.error.empty(), with.error);
  REQUIRE(with.reports.size() == 7);
  const Looked without = look("", pictures);
  CHECK_FALSE(without.reports[1].marks);
  double far = 0;
  for (size_t k = 1; k < 7; ++k) {
    CHECK(apart(with.reports[k], with.reports[0]) < 0.06);
    far = std::max(far, apart(without.reports[k], without.reports[0]));
    const Detection& d = with.reports[k].parts[0].detection;
    const RobotPose& p = *with.reports[k].parts[0].robot;
    CHECK(p.sigma.x < 0.03);
    CHECK(p.sigma.x >= without.reports[k].parts[0].robot->sigma.x);
    CHECK(d.score > 90);
    REQUIRE(with.reports[k].marks);
    CHECK(with.reports[k].marks->marks == std::vector<int>{3, 8, 15});
    CHECK(with.reports[k].marks->distance_mm() > 0.2);
  }
  CHECK(far > 1);
  // The report reads back, and a line tells how far it was.
  const Report& last = with.reports.back();
  const Report back = report_of_json(report_json(last), "test");
  REQUIRE(back.marks);
  CHECK(back.marks->shift_mm.x == doctest::Approx(last.marks->shift_mm.x));
  CHECK(back.marks->lift_mm == doctest::Approx(last.marks->lift_mm));
  CHECK(back.marks->tilt.degrees() == doctest::Approx(last.marks->tilt.degrees()));
  CHECK(back.marks->sigma_turn.degrees() == doctest::Approx(last.marks->sigma_turn.degrees()));
  CHECK(back.marks->marks == last.marks->marks);
  CHECK(report_json(back) == report_json(last));
  double unusable = 1, shift = 0, turn = 0;
  REQUIRE(std::sscanf(with.sent.back().c_str(), "%lf %lf %lf", &unusable, &shift, &turn) == 3);
  CHECK(unusable == 0);
  CHECK(shift == doctest::Approx(last.marks->distance_mm()).epsilon(0.01));
  // The warning comes when the marks move, and not with each picture.
  CHECK(with.told.size() >= 1);
  CHECK(with.told.size() < 4);
  CHECK(contains(with.told[0], "and the places move along"));
}

TEST_CASE("a camera that slid along the table needs no lens and no three marks") {
  const Table& t = table();
  // In the camera's own frame, along the table's plane.
  const Eigen::Vector3d along = t.camera.camera_from_world.rotation * Eigen::Vector3d(2.5, -1.5, 0);
  const CameraModel slid = t.bumped({0, 0, 0}, along);
  const Looked looked =
      look("marks = true\n", {t.seen(t.camera, laid, 2), t.seen(slid, laid, 3), t.seen(slid, {laid[1]}, 4)});
  REQUIRE(looked.reports.size() == 3);
  CHECK(apart(looked.reports[1], looked.reports[0]) < 0.03);
  CHECK(apart(looked.reports[2], looked.reports[0]) < 0.1);
  CHECK(looked.reports[2].marks->marks == std::vector<int>{8});
  CHECK(looked.reports[2].marks->sigma_turn > looked.reports[1].marks->sigma_turn);
  CHECK(looked.reports[1].marks->distance_mm() == doctest::Approx(std::hypot(2.5, 1.5)).epsilon(0.01));
}

TEST_CASE("marks that do not say where the mapping is: nothing is sent, and the reason is said") {
  const Table& t = table();
  std::vector<LaidMark> loose = laid, twice = laid;
  loose[1].at.x += 3;
  // Not where it was, and at two places; a copy elsewhere beside all that are in place does no harm.
  twice[0].at = {-65, 20, 10_deg};
  twice.push_back({laid[0].shape, {62, 62, 10_deg}});
  const CameraModel tilted = t.bumped({0.02, 0.01, 0}, {0, 0, 0});
  const struct {
    const char* marks;
    Image<uint8_t> picture;
    const char* why;
  } cases[] = {
      {"marks = true\n", t.seen(t.camera, {}, 2), "none of the mapping's 3 ring marks is seen"},
      {"marks = true\n", t.seen(t.camera, loose, 2), "a motion along the plane does not explain"},
      {free_marks.c_str(), t.seen(t.camera, loose, 2), "one motion does not explain"},
      {"marks = true\nmax_turn = 20\nmax_shift_mm = 50\n", t.seen(tilted, laid, 2), "or is the motion free?"},
      {"marks = true\n", t.seen(t.camera, twice, 2), "ring mark 3 is seen twice"}};
  for (const auto& c : cases) {
    const Looked looked = look(c.marks, {t.seen(t.camera, laid, 3), c.picture, t.seen(t.camera, laid, 4)});
    CAPTURE(c.why);
    REQUIRE(looked.reports.size() == 3);  // the station goes on
    CHECK(contains(looked.reports[1].unusable, c.why));
    CHECK(looked.reports[1].parts.empty());
    CHECK_FALSE(looked.reports[1].marks);
    CHECK(looked.sent[1].starts_with("1"));
    CHECK(looked.reports[2].unusable.empty());
    CHECK(looked.reports[2].parts.size() == 1);
    REQUIRE(looked.told.size() == 2);
    CHECK(contains(looked.told[0], c.why));
    CHECK(contains(looked.told[1], "say again"));
  }
}

TEST_CASE("a station stops when the marks have moved farther than is allowed") {
  const Table& t = table();
  const CameraModel far = t.bumped({0, 0, 0}, t.camera.camera_from_world.rotation * Eigen::Vector3d(4, 0, 0)),
                    turned = t.bumped({0, 0, 0.03}, {0, 0, 0});
  for (const CameraModel& now : {far, turned}) {
    const Looked looked = look(free_marks + "max_shift_mm = 3\nmax_turn = 1\n",
                               {t.seen(t.camera, laid, 3), t.seen(now, laid, 4)});
    CHECK(looked.reports.size() == 1);
    CHECK(contains(looked.error, "3 mm and 1 degrees are allowed"));
  }
  // Looked at again outside the running station, it is one picture among others.
  Station station(t.file(t.text(free_marks + "max_shift_mm = 3\n")),
                  std::make_unique<ListedPictures>(std::vector<Image<uint8_t>>{}));
  Picture again;
  again.name = "far.png", again.pixels = t.seen(far, laid, 4);
  const Report report = station.examine(again, station.file().setup.robot_from_world);
  CHECK(contains(report.unusable, "3 mm and 2 degrees are allowed"));
  CHECK(report.parts.empty());
  const Report found = look(free_marks, {t.seen(t.camera, laid, 3)}).reports.at(0);
  CHECK(contains(differences(found, report).at(0), "the picture cannot be looked at: "));
  CHECK(contains(differences(report, found).at(0), "the picture can be looked at; it could not: "));
  const Looked near = look(free_marks + "max_shift_mm = 7\n",
                           {t.seen(t.camera, laid, 3), t.seen(far, laid, 4), t.seen(far, laid, 5)});
  CHECK(near.reports.size() == 3);
  REQUIRE(near.told.size() == 1);
  CHECK(contains(near.told[0], "more than half of what is allowed"));
}

TEST_CASE("marks may be looked for in some pictures only") {
  const Table& t = table();
  const CameraModel moved = t.bumped({0, 0, 0.004}, {1, 0, 0});
  const auto here = t.seen(t.camera, laid, 3), there = t.seen(moved, laid, 4), covered = t.seen(moved, {}, 5);
  const Looked third = look(free_marks + "marks_every = 3\n", {here, covered, covered, there, covered});
  REQUIRE(third.reports.size() == 5);
  CHECK_FALSE(third.reports[0].marks->earlier);
  CHECK(third.reports[2].marks->earlier);
  CHECK_FALSE(third.reports[3].marks->earlier);
  CHECK(apart(third.reports[4], third.reports[0]) < 0.06);
  CHECK(apart(third.reports[1], third.reports[0]) > 0.5);  // what was moved since is not known yet
  const Looked once = look(free_marks + "marks_every = 0\n", {covered, here, there});
  REQUIRE(once.reports.size() == 3);
  CHECK_FALSE(once.reports[0].unusable.empty());  // and looked for again
  CHECK_FALSE(once.reports[1].marks->earlier);
  CHECK(once.reports[2].marks->earlier);
}

TEST_CASE("marks that cannot move a mapping are refused") {
  const Table& t = table();
  const auto refused = [&](const std::string& text) {
    return error_of([&] {
      const Station station(t.file(text), std::make_unique<ListedPictures>(std::vector<Image<uint8_t>>{}));
    });
  };
  CHECK(contains(refused(t.text("marks = true", "without.toml")), "heron calibrate --anchor"));
  CHECK(contains(refused(t.text("marks = true\nmarks_every = -1")), "marks_every"));
  CHECK(contains(refused(t.text("marks = true\nmax_turn = 0")), "max_turn"));
  CHECK(contains(refused(t.text("marks = true\nmax_shift_mm = -2")), "max_shift_mm"));
  CHECK(contains(refused(t.text("marks = true\nmotion = \"any\"")), "along_plane"));
  CHECK(
      contains(refused(t.text("marks_every = 3")), "needs marks = true"));  // without marks it means nothing
  MappingRecord plane = load_mapping(t.folder / "mapping.toml");
  plane.mapping = flat_mapping(width, height).mapping;
  save_mapping(t.folder / "plane.toml", plane);
  CHECK(
      contains(refused(t.text("marks = true\nmotion = \"free\"", "plane.toml")), "needs a calibrated lens"));
  std::string arm = t.text("marks = true");
  arm.replace(arm.find("\"fixed\""), 7, "\"arm\"");
  arm.replace(arm.find("robot_from_board"), 16, "flange_from_board");
  arm.replace(arm.find("mode = \"push\""), 13, "mode = \"ask\"\nask = \"GO\"");
  CHECK(refused(arm) != "");
}
