#include "heron/render/tray_station.hpp"

#include <array>

#include "free_places.hpp"
#include "heron/base/error.hpp"

namespace heron::render {
namespace {

constexpr double tile_length = 46, tile_width = 33;

Scene empty_tray(const CameraModel& camera, Random& random) {
  Scene scene;
  scene.camera = camera;
  scene.background = 0.22;
  scene.texture = 0.012;
  scene.texture_seed = random.bits();
  scene.light = {1.0, {random.uniform(-0.15, 0.15), random.uniform(-0.15, 0.15)}, random.uniform(0.05, 0.15)};
  return scene;
}

void put(Scene& scene, const std::vector<Piece>& pieces) {
  scene.pieces.insert(scene.pieces.end(), pieces.begin(), pieces.end());
}

/// Light, blur and strips that make a view hard, and a mirrored leaf where the last other tile lay.
void make_hard(TrayView& view, Random& random) {
  view.scene.light = {random.uniform(0.4, 1.2), {random.uniform(-0.5, 0.5), random.uniform(-0.5, 0.5)}, 0.2};
  view.scene.blur_px = random.uniform(0.6, 1.4);
  std::vector<Piece> fake, strips;
  for (const TrayTile& tile : view.tiles) {
    if (tile.kind != "leaf") continue;
    const Pose2 strip =
        tile.table_from_tile * Pose2{random.uniform(-18, 18), 0, degrees(random.uniform(60, 120))};
    strips.push_back({rectangle(60, random.uniform(2, 12)), strip, random.uniform(0.1, 0.9)});
  }
  if (!view.tiles.empty() && view.tiles.back().kind != "leaf") {
    const Pose2 place = view.tiles.back().table_from_tile;
    std::erase_if(view.scene.pieces, [&](const Piece& p) {
      return distance(p.world_from_piece.position(), place.position()) < 1e-9;
    });
    fake = tile_pieces("leaf", place, 0.62);
    for (Piece& p : fake) p.outline = mirrored(p.outline);
    view.tiles.back().kind = "mirrored leaf";
  }
  put(view.scene, fake);
  put(view.scene, strips);
}

constexpr double mark_diameter_mm = 16, mark_paper_mm = 22;
const std::array<std::pair<int, Pose2>, 3> tray_marks{
    {{2, {-128, -98, degrees(25)}}, {7, {126, -96, degrees(-70)}}, {11, {-124, 97, degrees(160)}}}};

void put_tray_marks(Scene& scene) {
  for (const auto& [identity, at] : tray_marks)
    put(scene, {{rectangle(mark_paper_mm, mark_paper_mm), at, 0.85},
                {ring_mark({identity, mark_diameter_mm}), at, 0.06}});
}

/// Shifted along the table by some millimetres and turned above it.
CameraModel pushed_aside(CameraModel camera, Random& random) {
  const Eigen::Vector3d shift(random.uniform(1, 3), random.uniform(-3, -1), 0);
  const Pose3 moved{turn_of({0, 0, degrees(random.uniform(-0.6, 0.6)).radians()}), shift};
  camera.camera_from_world = camera.camera_from_world * moved;
  return camera;
}

TrayView filled_tray(const CameraModel& camera, const TrayFilling& filling, Random& random) {
  static const std::array<const char*, 4> other_kinds{"crescent", "kite", "hexagon", "rosette"};
  TrayView view;
  view.scene = empty_tray(camera, random);
  FreePlaces places(random, 152, 120);
  if (filling.marks) {
    put_tray_marks(view.scene);
    for (const auto& [identity, at] : tray_marks) places.take(at.position(), 0.75 * mark_paper_mm);
  }
  for (int i = 0; i < filling.leaves; ++i) view.tiles.push_back({"leaf", places.next(29)});
  for (int i = 0; i < filling.others; ++i)
    view.tiles.push_back({other_kinds[static_cast<size_t>(random.whole(0, 3))], places.next(19)});
  for (const TrayTile& tile : view.tiles)
    put(view.scene, tile_pieces(tile.kind, tile.table_from_tile, random.uniform(0.52, 0.72)));
  if (filling.hard) make_hard(view, random);
  return view;
}

}  // namespace

std::vector<Piece> tile_pieces(const std::string& kind, const Pose2& pose, double glaze) {
  const double relief = 0.45 * glaze, bright = std::min(0.95, 1.25 * glaze);
  if (kind == "leaf")
    return {{rounded_rectangle(tile_length, tile_width, 6), pose, glaze},
            {leaf(38, 24), pose, relief},
            {leaf_veins(38, 24), pose, 0.85 * glaze}};
  if (kind == "crescent") return {{crescent(16, 14), pose, glaze}, {disc(3, {-8.5, 0}), pose, relief}};
  if (kind == "kite") return {{kite(36, 24), pose, glaze}, {scaled(kite(36, 24), 0.55), pose, bright}};
  if (kind == "hexagon") return {{hexagon(16), pose, glaze}, {scaled(hexagon(16), 0.6), pose, relief}};
  if (kind == "rosette") return {{rosette(16, 8, 3), pose, glaze}, {disc(5), pose, bright}};
  fail_argument("tray: no tile of kind '" + kind + "'; there are leaf, crescent, kite, hexagon, rosette");
}

std::vector<Piece> board_pieces(const BoardShape& board, const Pose2& pose, bool with_mark) {
  const double p = board.pitch_mm, margin = PrintedBoard::margin(board.kind) * p;
  const double width = (board.columns - 1) * p, height = (board.rows - 1) * p;
  const Point2 middle{width / 2, height / 2};
  std::vector<Piece> pieces{{rectangle(width + 2 * margin, height + 2 * margin, middle), pose, 0.88}};
  Outline ink;
  const auto add = [&](const Outline& shape) {
    ink.loops.insert(ink.loops.end(), shape.loops.begin(), shape.loops.end());
  };
  if (board.kind == BoardKind::dots) {
    for (int j = 0; j < board.rows; ++j)
      for (int i = 0; i < board.columns; ++i) add(disc(PrintedBoard::dot_radius * p, board.point(i, j)));
  } else {
    for (int j = -1; j < board.rows; ++j)
      for (int i = -1; i < board.columns; ++i)
        if ((i + j) % 2 == 0) add(rectangle(p, p, {(i + 0.5) * p, (j + 0.5) * p}));
  }
  if (with_mark)
    for (const PrintedBoard::Mark& mark : PrintedBoard::marks(board))
      for (int k = 0; k < mark.dashes; ++k) {
        const auto [from, to] = mark.dash(k);
        const double across = 2 * PrintedBoard::bar_half_width * p;
        add(rectangle(std::max(std::abs(to.x - from.x) * p, across),
                      std::max(std::abs(to.y - from.y) * p, across), (from + to) * (0.5 * p)));
      }
  pieces.push_back({ink, pose, 0.07});
  return pieces;
}

CameraModel camera_above(double distance_mm, const Lens& lens, Angle tilt, Angle towards, Angle roll) {
  // Looking straight down, the picture's y runs against the table's Y.
  const Eigen::Quaterniond down(Eigen::AngleAxisd(std::numbers::pi, Eigen::Vector3d::UnitX()));
  const Eigen::Vector3d lean_axis(-sin(towards), cos(towards), 0);
  const Eigen::Quaterniond lean(Eigen::AngleAxisd(tilt.radians(), lean_axis)),
      turn(Eigen::AngleAxisd(roll.radians(), Eigen::Vector3d::UnitZ()));
  CameraModel camera;
  camera.lens = lens;
  camera.camera_from_world.rotation = turn * down * lean;
  // The optical axis still meets the table's origin.
  camera.camera_from_world.position = Eigen::Vector3d(0, 0, distance_mm);
  return camera;
}

Homography pixel_from_table(const CameraModel& camera) {
  Eigen::Matrix3d inner, seen;
  inner << camera.lens.fx, 0, camera.lens.cx, 0, camera.lens.fy, camera.lens.cy, 0, 0, 1;
  const Eigen::Matrix3d r = camera.camera_from_world.rotation.toRotationMatrix();
  seen << r.col(0), r.col(1), camera.camera_from_world.position;
  return inner * seen;
}

TrayStation make_tray_station(uint64_t seed, const TrayFilling& filling) {
  Random random(seed);
  TrayStation station;
  const Lens lens{
      .fx = 2400, .fy = 2400, .cx = 639.5 + random.uniform(-8, 8), .cy = 511.5 + random.uniform(-8, 8)};
  station.camera = camera_above(600, lens, degrees(random.uniform(0, 1.2)),
                                degrees(random.uniform(-180, 180)), degrees(random.uniform(-3, 3)));
  station.board = {.kind = BoardKind::dots, .columns = 13, .rows = 11, .pitch_mm = 18};
  const Angle turned = degrees(random.uniform(-4, 4));
  const Point2 corner = rotated({-108 + random.uniform(-6, 6), -86 + random.uniform(-4, 4)}, turned);
  station.table_from_board = {corner.x, corner.y, turned};
  station.robot_from_table = {random.uniform(350, 450), random.uniform(-250, -150),
                              degrees(random.uniform(60, 120))};
  station.noise = {.sigma = 2, .electrons = 20000};

  station.board_scene = empty_tray(station.camera, random);
  put(station.board_scene, board_pieces(station.board, station.table_from_board));

  station.teach.scene = empty_tray(station.camera, random);
  station.teach.tiles.push_back(
      {"leaf", {random.uniform(-20, 20), random.uniform(-15, 15), degrees(random.uniform(-4, 4))}});
  put(station.teach.scene, tile_pieces("leaf", station.teach.tiles[0].table_from_tile, 0.62));

  for (int i = 0; i < filling.views; ++i)
    station.views.push_back(filled_tray(station.camera, filling, random));
  if (filling.marks) {
    station.marks_scene = empty_tray(station.camera, random);
    put_tray_marks(station.marks_scene);
    const CameraModel moved = pushed_aside(station.camera, random);
    for (size_t i = 1; i < station.views.size(); ++i) station.views[i].scene.camera = moved;
  }
  return station;
}

}  // namespace heron::render
