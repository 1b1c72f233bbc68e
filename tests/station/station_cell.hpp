#pragma once
#include <string>
#include <thread>

#include "heron/calibrate/plane.hpp"
#include "heron/files/csv_file.hpp"
#include "heron/files/mapping_file.hpp"
#include "heron/files/picture_file.hpp"
#include "heron/files/recording.hpp"
#include "heron/files/target_file.hpp"
#include "heron/geometry/rigid_fit.hpp"
#include "heron/render/studio_views.hpp"
#include "heron/simulation/simulated_robot.hpp"
#include "heron/simulation/tray_cell.hpp"
#include "heron/station/station.hpp"
#include "support.hpp"

namespace station_cell {

using namespace heron;
using namespace std::chrono_literals;

/// 4 pixels a millimetre, zero in the middle, X to the right and Y up: what `seen_from_above` shows.
inline MappingRecord flat_mapping(int width, int height) {
  MappingRecord record;
  Homography pixel_from_world;
  pixel_from_world << 4, 0, 0.5 * (width - 1), 0, -4, 0.5 * (height - 1), 0, 0, 1;
  record.mapping = Mapping(PlaneMapping(pixel_from_world));
  record.width = width, record.height = height, record.date = "2026-01-01T00:00:00Z";
  return record;
}

/// Pieces on a dark table under a camera straight above it.
inline Image<uint8_t> seen_from_above(int width, int height, std::vector<render::Piece> pieces,
                                      uint64_t seed) {
  render::Scene scene;
  scene.camera =
      render::camera_above(600, {.fx = 2400, .fy = 2400, .cx = 0.5 * (width - 1), .cy = 0.5 * (height - 1)});
  scene.width = width, scene.height = height, scene.background = 0.12;
  scene.pieces = std::move(pieces);
  render::Random random(seed);
  return expose(exact_picture(scene), {.sigma = 1}, random);
}

/// One simulated cell, rendered and calibrated once for all tests of this file.
struct Cell {
  support::TemporaryFolder folder;
  TrayCell tray = write_tray_cell(folder / "cell", 3, {.views = 2});
  Pose2 robot_from_board;

  Cell() {
    MappingRecord record;
    const Image<uint8_t> board = grey_levels(load_picture(tray.path("board.png")));
    const BoardSeen seen = find_board(board, tray.station.board);
    record = record_of(
        calibrate_plane(seen.points, tray.station.board, seen.dot_radius_px, board.width(), board.height()));
    record.board = tray.station.board, record.width = board.width(), record.height = board.height();
    record.date = "2026-01-01T00:00:00Z";
    save_mapping(tray.path("mapping.toml"), record);
    save_target(tray.path("leaf.png"), teach_pattern(grey_levels(load_picture(tray.path("teach.png"))),
                                                     Region::rectangle(tray.teach_region), {.name = "leaf"}));
    std::vector<Point2> from, to;
    for (const auto& row : load_csv(tray.path("touched.csv"), {"board_x", "board_y", "robot_x", "robot_y"}))
      from.push_back({row[0], row[1]}), to.push_back({row[2], row[3]});
    robot_from_board = fit_rigid(from, to).target_from_source;
  }

  std::string text(const std::string& frame, const std::string& link) const {
    return "version = 1\nname = \"test\"\n[camera]\nrecording = \"tray\"\n[mapping]\nfile = "
           "\"mapping.toml\"\n[frame]\n" +
           frame + "\n[[target]]\nfile = \"leaf.png\"\n[link]\nprotocol = \"text\"\n" + link + "\n";
  }
  std::string fixed() const {
    return "mount = \"fixed\"\nrobot_from_board = [" + std::to_string(robot_from_board.x) + ", " +
           std::to_string(robot_from_board.y) + ", " + std::to_string(robot_from_board.angle.degrees()) + "]";
  }
  StationFile station(const std::string& content) const {
    support::write_text(tray.path("s.toml"), content);
    return load_station(tray.path("s.toml"));
  }
};

inline Cell& cell() {
  static Cell shared;
  return shared;
}

}  // namespace station_cell
