#include "heron/simulation/tray_cell.hpp"

#include <fmt/format.h>

#include <filesystem>

#include "heron/base/error.hpp"
#include "heron/files/atomic_file.hpp"
#include "heron/files/picture_file.hpp"
#include "heron/files/recording.hpp"
#include "heron/simulation/simulated_robot.hpp"

namespace heron {
namespace {

using namespace render;

constexpr double touch_error_mm = 0.005;  // how well the robot's tip finds a point

Image<uint8_t> photographed(const Scene& scene, const TrayStation& station, Random& random) {
  return expose(exact_picture(scene), station.noise, random);
}

/// A whole-numbered box around the tile, a little larger than it.
Box region_around(const TrayStation& station) {
  const Pose2& tile = station.teach.tiles[0].table_from_tile;
  const Point2 middle = station.camera.project({tile.x, tile.y, 0});
  constexpr double width = 212, height = 164;
  return {std::round(middle.x - width / 2), std::round(middle.y - height / 2), width, height};
}

/// The point that the region's centre looks at, and the direction of the picture's +x there, as a pose on the
/// table.
Pose2 table_from_grip(const TrayStation& station, const Box& region) {
  const Point2 centre = region.centre();
  const WorldPoint here = station.camera.plane_point(centre, 0).value(),
                   ahead = station.camera.plane_point(centre + Point2{0.01, 0}, 0).value();
  return {here.x, here.y, direction((ahead - here).plain())};
}

RobotTruth truth_of(const TrayStation& station, const Pose2& tile_from_grip) {
  RobotTruth truth;
  for (const TrayView& view : station.views) {
    truth.pictures.emplace_back();
    for (const TrayTile& tile : view.tiles)
      if (tile.kind == "leaf")
        truth.pictures.back().push_back(
            {"leaf", station.robot_from_table * tile.table_from_tile * tile_from_grip});
  }
  return truth;
}

/// Where the taught origin of every leaf lies in the pictures, and its angle there: what `heron study
/// --known` reads.
std::string known_parts(const TrayStation& station, const Recording& recording, const Box& taught) {
  std::string text = "picture,x,y,angle\n";
  const Pose2 table_from_taught = table_from_grip(station, taught);
  const Pose2 tile_from_taught = station.teach.tiles[0].table_from_tile.inverse() * table_from_taught;
  for (size_t i = 0; i < station.views.size(); ++i) {
    const CameraModel& camera = station.views[i].scene.camera;
    const auto pixel = [&](Point2 p) { return camera.project({p.x, p.y, 0}); };
    int parts = 0;
    for (const TrayTile& tile : station.views[i].tiles) {
      if (tile.kind != "leaf") continue;
      const Pose2 there = tile.table_from_tile * tile_from_taught;
      const Point2 at = pixel(there.position()), ahead = pixel(there * Point2{0.01, 0});
      text += fmt::format("{},{:.3f},{:.3f},{:.3f}\n", recording.pictures[i].file, at.x, at.y,
                          direction(ahead - at).degrees());
      ++parts;
    }
    if (parts == 0) text += recording.pictures[i].file + "\n";
  }
  return text;
}

/// Points of the board that somebody clicked at in its picture, each about a tenth of a pixel off, and where
/// the board has them.
std::string clicked_points(const TrayStation& station, Random& random) {
  std::string text = "u,v,x,y\n";
  const int right = station.board.columns - 1, top = station.board.rows - 1;
  for (const auto& [column, row] :
       {std::pair{0, 0}, {right, 0}, {right, top}, {0, top}, {right / 2, top / 2}, {right / 3, top / 4}}) {
    const Point2 board = station.board.point(column, row), table = station.table_from_board * board,
                 pixel = station.camera.project({table.x, table.y, 0});
    text += fmt::format("{:.2f},{:.2f},{},{}\n", pixel.x + 0.1 * random.normal(),
                        pixel.y + 0.1 * random.normal(), board.x, board.y);
  }
  return text;
}

std::string touched_points(const TrayStation& station, Random& random) {
  std::string text = "board_x,board_y,robot_x,robot_y\n";
  const Pose2 robot_from_board = station.robot_from_table * station.table_from_board;
  const int right = station.board.columns - 1, top = station.board.rows - 1;
  for (const auto& [column, row] :
       {std::pair{0, 0}, {right, 0}, {right, top}, {0, top}, {right / 2, top / 2}}) {
    const Point2 board = station.board.point(column, row), robot = robot_from_board * board;
    text += fmt::format("{},{},{:.4f},{:.4f}\n", board.x, board.y, robot.x + touch_error_mm * random.normal(),
                        robot.y + touch_error_mm * random.normal());
  }
  return text;
}

}  // namespace

TrayCell write_tray_cell(const std::string& folder, uint64_t seed, const TrayFilling& filling) {
  TrayCell cell{folder, make_tray_station(seed, filling), {}};
  const TrayStation& station = cell.station;
  cell.teach_region = region_around(station);
  std::error_code error;
  std::filesystem::create_directories(cell.path("tray"), error);
  if (error)
    throw Error(ErrorCode::not_writable, ErrorPlace{folder},
                fmt::format("cannot be made: {}", error.message()));

  Random random(seed ^ 0x5eedULL);
  save_picture(cell.path("board.png"), photographed(station.board_scene, station, random));
  save_picture(cell.path("teach.png"), photographed(station.teach.scene, station, random));
  Recording recording{cell.path("tray"), {}};
  for (size_t i = 0; i < station.views.size(); ++i) {
    recording.pictures.push_back({fmt::format("tray-{:02}.png", i + 1)});
    save_picture(recording.path(i), photographed(station.views[i].scene, station, random));
  }
  save_recording(recording);
  if (filling.marks) save_picture(cell.path("marks.png"), photographed(station.marks_scene, station, random));
  write_file(cell.path("known.csv"), known_parts(station, recording, cell.teach_region));
  write_file(cell.path("touched.csv"), touched_points(station, random));
  write_file(cell.path("pairs.csv"), clicked_points(station, random));
  const Pose2 tile_from_grip =
      station.teach.tiles[0].table_from_tile.inverse() * table_from_grip(station, cell.teach_region);
  save_truth(cell.path("truth.json"), truth_of(station, tile_from_grip));
  return cell;
}

}  // namespace heron
