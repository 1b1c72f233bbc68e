#include "heron/simulation/bench_cell.hpp"

#include <fmt/format.h>

#include <filesystem>
#include <functional>
#include <nlohmann/json.hpp>

#include "bench_stack.hpp"
#include "heron/base/error.hpp"
#include "heron/files/atomic_file.hpp"
#include "heron/files/picture_file.hpp"
#include "heron/render/random.hpp"
#include "heron/render/tray_station.hpp"

namespace heron {
namespace {

using namespace render;
using Pieces = std::vector<Piece>;

/// One way in which a part can be bad, or off a little: `size` is in tolerances.
struct Deviation {
  const char* gauge;  // that must see it
  std::function<void(double size)> apply;
  bool only_bad = false;  // a good part has none of it
};

/// A part of a family with its deviations, each drawn within `good` tolerances, one of them `bad` if it shall
/// be.
struct MadePart {
  Pieces pieces;
  std::string defect;
};

double either_way(Random& random) { return random.uniform() < 0.5 ? -1 : 1; }

std::string deviate(std::vector<Deviation> all, bool bad, const BenchFilling& filling, Random& random) {
  const int chosen = bad ? random.whole(0, static_cast<int>(all.size()) - 1) : -1;
  for (int i = 0; i < static_cast<int>(all.size()); ++i) {
    const double size = i == chosen ? either_way(random) * filling.defect_size
                                    : random.uniform(-filling.good_size, filling.good_size);
    if (i == chosen || !all[static_cast<size_t>(i)].only_bad) all[static_cast<size_t>(i)].apply(size);
  }
  return bad ? all[static_cast<size_t>(chosen)].gauge : "";
}

using T = BenchTolerances;

MadePart made_panel(const Pose2& pose, bool bad, const BenchFilling& filling, Random& random) {
  BenchPanel p;
  MadePart made;
  made.defect = deviate({{"slot distance", [&](double s) { p.slot_distance_mm += s * T::slot_distance_mm; }},
                         {"hole", [&](double s) { p.hole_mm += s * T::hole_mm; }},
                         {"squareness", [&](double s) { p.side_off = degrees(s * T::side_deg); }},
                         {"insert place",
                          [&](double s) {
                            p.insert_off =
                                unit(degrees(random.uniform(-180, 180))) * (std::abs(s) * T::insert_mm);
                          }},
                         {"insert angle", [&](double s) { p.insert_turned = degrees(s * T::insert_deg); }},
                         {"chip", [&](double s) { p.chip_mm = std::abs(s) * T::chip_mm; }, true}},
                        bad, filling, random);
  made.pieces = pieces_of(p, pose);
  return made;
}

MadePart made_trowel(const Pose2& pose, bool bad, const BenchFilling& filling, Random& random) {
  BenchTrowel t;
  MadePart made;
  made.defect = deviate(
      {{"teeth", [&](double) { t.missing = random.whole(2, 9); }, true},
       {"pitch error", [&](double s) { t.moved = random.whole(3, 8), t.moved_mm = s * T::pitch_error_mm; }}},
      bad, filling, random);
  if (t.missing > 0) t.moved = 0;
  made.pieces = pieces_of(t, pose);
  return made;
}

MadePart made_disc(const Pose2& pose, bool bad, const BenchFilling& filling, Random& random) {
  BenchDisc d;
  MadePart made;
  made.defect =
      deviate({{"notch", [&](double s) { d.notch = d.notch + degrees(s * T::notch_deg); }},
               // Peak to valley is twice the longest radius' excess; noise and the notch leave some of it.
               {"roundness", [&](double s) { d.oval_mm = 0.5 * std::abs(s) * T::roundness_mm; }}},
              bad, filling, random);
  made.pieces = pieces_of(d, pose);
  return made;
}

MadePart made_board(const Pose2& pose, bool bad, const BenchFilling& filling, Random& random) {
  BenchBoard b{.glazes = {teal_glaze, amber_glaze, rose_glaze, rose_glaze, teal_glaze, amber_glaze}};
  MadePart made;
  const int chip = random.whole(1, 6);
  const std::string gauge = fmt::format("chip {}", chip);
  Tint& glaze = b.glazes[static_cast<size_t>(chip - 1)];
  made.defect = deviate(
      {{gauge.c_str(),
        [&](double) {
          glaze = {0, 0, 0};
        },
        true},
       {gauge.c_str(), [&](double) { glaze = glaze == teal_glaze ? rose_glaze : teal_glaze; }, true},
       {gauge.c_str(),
        [&](double) { b.moved = chip, b.moved_mm = unit(degrees(random.uniform(-180, 180))) * 4; }, true}},
      bad, filling, random);
  b.number = random.whole(100, 999);
  made.pieces = pieces_of(b, pose);
  return made;
}

void make_folder(const std::string& path) {
  std::error_code error;
  std::filesystem::create_directories(path, error);
  if (error)
    throw Error(ErrorCode::not_writable, ErrorPlace{path},
                fmt::format("cannot be made: {}", error.message()));
}

/// Height maps of piles; a verdict is one of the picture.
BenchFamily written_stacks(const BenchCell& cell, const BenchFilling& filling, Random& random) {
  BenchFamily result{.name = "stack", .reference = "stack/stack-reference.tif"};
  make_folder(cell.path("stack"));
  save_stack(cell.path(result.reference), {}, random);
  for (int i = 0; i < filling.pictures; ++i) {
    BenchStack stack;
    const std::string defect =
        deviate({{"step", [&](double s) { stack.more += s < 0 ? -1 : 1; }, true},
                 {"slope", [&](double s) { stack.top_slant = degrees(s * T::slope_deg); }, true}},
                random.uniform() < filling.bad_share, filling, random);
    const std::string file = fmt::format("stack/stack-{:02}.tif", i + 1);
    save_stack(cell.path(file), stack, random);
    result.pictures.push_back({file, {{{}, defect}}});
  }
  return result;
}

struct Family {
  const char* name;
  MadePart (*make)(const Pose2&, bool, const BenchFilling&, Random&);
  Point2 half_mm;  // so far apart parts lie
  bool color;
};
const Family families[] = {{"panel", made_panel, {74, 74}, false},
                           {"trowel", made_trowel, {62, 62}, false},
                           {"disc", made_disc, {40, 40}, false},
                           {"board", made_board, {60, 60}, true}};

Scene empty_bench(const CameraModel& camera, Random& random) {
  Scene scene;
  scene.camera = camera, scene.background = 0.36;
  scene.light = {random.uniform(0.8, 1.15), {random.uniform(-0.12, 0.12), random.uniform(-0.12, 0.12)}, 0.08};
  return scene;
}

void photograph(const std::string& path, const Scene& scene, bool color, Random& random) {
  const Noise noise{.sigma = 2, .electrons = 20000};
  if (color)
    save_picture(path, expose(exact_channels(scene), noise, random));
  else
    save_picture(path, expose(exact_picture(scene), noise, random));
}

BenchFamily written(const Family& family, const BenchCell& cell, const BenchFilling& filling,
                    Random& random) {
  BenchFamily result{.name = family.name, .reference = fmt::format("{0}/{0}-reference.png", family.name)};
  make_folder(cell.path(family.name));
  result.reference_pose = {random.uniform(-10, 10), random.uniform(-8, 8), degrees(random.uniform(-12, 12))};
  Scene scene = empty_bench(cell.camera, random);
  scene.light = {1, {}, 0.05};
  // The reference part has its nominal sizes.
  scene.pieces = family.make(result.reference_pose, false, {.good_size = 0}, random).pieces;
  photograph(cell.path(result.reference), scene, family.color, random);
  for (int i = 0; i < filling.pictures; ++i) {
    BenchPicture picture{.file = fmt::format("{0}/{0}-{1:02}.png", family.name, i + 1)};
    scene = empty_bench(cell.camera, random);
    for (const double side : {-1.0, 1.0}) {
      const Pose2 pose{side * (family.half_mm.x + random.uniform(2, 6)), random.uniform(-40, 40),
                       degrees(random.uniform(-180, 180))};
      MadePart part = family.make(pose, random.uniform() < filling.bad_share, filling, random);
      scene.pieces.insert(scene.pieces.end(), part.pieces.begin(), part.pieces.end());
      picture.parts.push_back({pose, part.defect});
    }
    photograph(cell.path(picture.file), scene, family.color, random);
    result.pictures.push_back(std::move(picture));
  }
  return result;
}

std::string truth_text(const BenchCell& cell) {
  nlohmann::ordered_json all = nlohmann::ordered_json::array();
  for (const BenchFamily& family : cell.families)
    for (const BenchPicture& picture : family.pictures)
      for (const BenchPart& part : picture.parts) {
        const Point2 at = cell.camera.project({part.table_from_part.x, part.table_from_part.y, 0});
        all.push_back({{"picture", picture.file},
                       {"part", family.name},
                       {"x", at.x},
                       {"y", at.y},
                       {"good", part.defect.empty()},
                       {"defect", part.defect}});
      }
  return all.dump(1) + "\n";
}

}  // namespace

const BenchFamily& BenchCell::family(const std::string& name) const {
  for (const BenchFamily& f : families)
    if (f.name == name) return f;
  fail_argument(fmt::format("the bench has no family '{}'", name));
}

Point2 BenchCell::pixel(const BenchFamily& family, Point2 of_part) const {
  const Point2 table = family.reference_pose * of_part;
  return camera.project({table.x, table.y, 0});
}

BenchCell write_bench_cell(const std::string& folder, uint64_t seed, const BenchFilling& filling) {
  // There is one bench: its camera and board stay where they are, whatever lies there.
  Random mounting(0xbe9cULL), random(seed ^ 0xbe9cULL);
  BenchCell cell{.folder = folder};
  const Lens lens{
      .fx = 2400, .fy = 2400, .cx = 639.5 + mounting.uniform(-8, 8), .cy = 511.5 + mounting.uniform(-8, 8)};
  cell.camera = camera_above(600, lens, degrees(mounting.uniform(0, 0.8)),
                             degrees(mounting.uniform(-180, 180)), degrees(mounting.uniform(-3, 3)));
  cell.board = {.kind = BoardKind::dots, .columns = 13, .rows = 11, .pitch_mm = 18};
  make_folder(folder);
  Scene scene = empty_bench(cell.camera, random);
  scene.pieces = board_pieces(cell.board, {-108, -88, degrees(mounting.uniform(-3, 3))});
  photograph(cell.path("board.png"), scene, false, random);
  for (const Family& family : families) cell.families.push_back(written(family, cell, filling, random));
  cell.families.push_back(written_stacks(cell, filling, random));
  write_file(cell.path("truth.json"), truth_text(cell));
  return cell;
}

}  // namespace heron
