#pragma once
#include <string>
#include <vector>

#include "heron/geometry/board_shape.hpp"
#include "heron/geometry/homography.hpp"
#include "heron/render/scene.hpp"

namespace heron::render {

/// A tile on the tray and what it is.
struct TrayTile {
  std::string kind;  ///< leaf, crescent, kite, hexagon, rosette
  Pose2 table_from_tile;
};

/// One picture of the tray: its scene and the tiles that lie there.
struct TrayView {
  Scene scene;
  std::vector<TrayTile> tiles;
};

/// The tray station of the tile studio: a camera above a tray, a calibration board, and a robot whose frame
/// is another than the board's. All that is in it follows from the seed.
struct TrayStation {
  CameraModel camera;
  BoardShape board;
  Pose2 table_from_board, robot_from_table;
  Noise noise;
  Scene board_scene;            ///< the board lying on the tray
  TrayView teach;               ///< one leaf tile alone
  std::vector<TrayView> views;  ///< leaf tiles among others
  Scene marks_scene = {};       ///< the tray with its ring marks alone, when it has some
};

/// How a tray is filled.
struct TrayFilling {
  int views = 3;
  int leaves = 5;
  int others = 6;
  bool hard = false;   ///< uneven light, blur, a strip over every leaf, mirrored leaves among the others
  bool marks = false;  ///< ring marks at the tray's corners; the camera is pushed aside after the first view
};

TrayStation make_tray_station(uint64_t seed, const TrayFilling& filling = {});

/// Pieces of a tile of a kind, in its own frame; `glaze` is the reflectance of its body.
std::vector<Piece> tile_pieces(const std::string& kind, const Pose2& table_from_tile, double glaze);

/// A printed board lying on the table.
std::vector<Piece> board_pieces(const BoardShape& board, const Pose2& table_from_board,
                                bool with_mark = true);

/// A camera at `distance_mm` above the table's origin, its optical axis leaning by `tilt` towards `towards`
/// and turned by `roll`.
CameraModel camera_above(double distance_mm, const Lens& lens, Angle tilt = {}, Angle towards = {},
                         Angle roll = {});

/// The work plane's homography, pixel_from_table, for a lens without distortion.
Homography pixel_from_table(const CameraModel& camera);

}  // namespace heron::render
