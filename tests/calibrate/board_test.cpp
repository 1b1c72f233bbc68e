#include <doctest/doctest.h>

#include "heron/base/error.hpp"
#include "heron/calibrate/plane.hpp"
#include "heron/render/tray_station.hpp"

using namespace heron;
using namespace heron::render;

namespace {

struct BoardPicture {
  BoardShape shape{.kind = BoardKind::dots, .columns = 13, .rows = 11, .pitch_mm = 18};
  CameraModel camera = camera_above(600, {.fx = 2400, .fy = 2400});
  Pose2 table_from_board{-105, -88, 3_deg};
  bool with_mark = true;
  double noise = 2;
  uint64_t seed = 1;

  Image<uint8_t> draw() const {
    Scene scene;
    scene.camera = camera;
    scene.texture = 0.01;
    scene.light = {1.0, {0.2, -0.1}, 0.15};
    scene.pieces = board_pieces(shape, table_from_board, with_mark);
    Random random(seed);
    return expose(exact_picture(scene), {.sigma = noise}, random);
  }
  Point2 truth(int column, int row) const {
    const Point2 p = table_from_board * shape.point(column, row);
    return camera.project({p.x, p.y, 0});
  }
};

Image<uint8_t> flipped(const Image<uint8_t>& p) {
  Image<uint8_t> result(p.width(), p.height());
  for (int y = 0; y < p.height(); ++y)
    for (int x = 0; x < p.width(); ++x) result(x, y) = p(p.width() - 1 - x, y);
  return result;
}

double worst_point(const BoardSeen& seen, const BoardPicture& picture) {
  double worst = 0;
  for (const BoardPoint& p : seen.points)
    worst = std::max(worst, distance(p.pixel, picture.truth(p.column, p.row)));
  return worst;
}

}  // namespace

TEST_CASE("every point of a board is found and named right, dots and corners, turned any way when marked") {
  for (const BoardKind kind : {BoardKind::dots, BoardKind::checker})
    for (const double turned : {0.0, 35.0, 90.0, 180.0, -120.0}) {
      CAPTURE(turned);
      BoardPicture picture{.shape = {.kind = kind, .columns = 9, .rows = 7, .pitch_mm = 18}};
      const Point2 middle = rotated(picture.shape.point(4, 3), degrees(turned));
      picture.table_from_board = {-middle.x, -middle.y, degrees(turned)};
      const BoardSeen seen = find_board(picture.draw(), picture.shape);
      REQUIRE_MESSAGE(seen.found, seen.reason);
      CHECK(seen.marked);
      CHECK(seen.points.size() == 63);
      CHECK(worst_point(seen, picture) < 0.15);
    }
}

TEST_CASE("a slant of 45 degrees is no hindrance") {
  for (const BoardKind kind : {BoardKind::dots, BoardKind::checker}) {
    BoardPicture picture{.shape = {.kind = kind, .columns = 9, .rows = 7, .pitch_mm = 16},
                         .camera = camera_above(620, {.fx = 2400, .fy = 2400}, 45_deg, 30_deg)};
    picture.table_from_board = {-64, -48, 10_deg};
    const BoardSeen seen = find_board(picture.draw(), picture.shape);
    REQUIRE_MESSAGE(seen.found, seen.reason);
    CHECK(seen.points.size() == 63);
    CHECK(seen.marked);
  }
}

TEST_CASE("without a mark the origin is the corner nearest the bottom left that is right-handed") {
  for (const BoardKind kind : {BoardKind::dots, BoardKind::checker})
    for (const double turned : {-20.0, 160.0}) {
      BoardPicture picture{.shape = {.kind = kind, .columns = 9, .rows = 7, .pitch_mm = 18},
                           .with_mark = false};
      const Point2 middle = rotated(picture.shape.point(4, 3), degrees(turned));
      picture.table_from_board = {-middle.x, -middle.y, degrees(turned)};
      const BoardSeen seen = find_board(picture.draw(), picture.shape);
      REQUIRE_MESSAGE(seen.found, seen.reason);
      CHECK_FALSE(seen.marked);
      // At 160 degrees the board's own first point lies at the top right; the last one takes its place.
      const Point2 expected = turned == -20.0 ? picture.truth(0, 0) : picture.truth(8, 6);
      CHECK(distance(seen.points.front().pixel, expected) < 0.2);
      const Point2 column = seen.points[1].pixel - seen.points[0].pixel,
                   row = seen.points[9].pixel - seen.points[0].pixel;
      CHECK(cross(column, row) < 0);  // X to Y is counter-clockwise as seen, y pointing down
    }
}

TEST_CASE("boards that do not fit say what was seen") {
  BoardPicture picture;
  const Image<uint8_t> drawn = picture.draw();
  const BoardSeen wrong =
      find_board(drawn, {.kind = BoardKind::dots, .columns = 12, .rows = 11, .pitch_mm = 18});
  CHECK_FALSE(wrong.found);
  CHECK(wrong.reason.find("13 x 11") != std::string::npos);
  const BoardSeen swapped =
      find_board(drawn, {.kind = BoardKind::dots, .columns = 11, .rows = 13, .pitch_mm = 18});
  CHECK(swapped.reason.find("13 columns and 11 rows") != std::string::npos);
  CHECK(find_board(flipped(drawn), picture.shape).reason.find("mirror") != std::string::npos);
  CHECK_FALSE(
      find_board(drawn, {.kind = BoardKind::checker, .columns = 13, .rows = 11, .pitch_mm = 18}).found);
  for (const uint8_t grey : {0, 128, 255}) {
    Image<uint8_t> flat(300, 200);
    for (int y = 0; y < 200; ++y) std::fill_n(flat.row(y), 300, grey);
    for (const BoardKind kind : {BoardKind::dots, BoardKind::checker})
      CHECK_FALSE(find_board(flat, {.kind = kind}).found);
  }
  CHECK_FALSE(find_board(Image<uint8_t>(1, 1), picture.shape).found);
  CHECK_THROWS_AS(find_board(drawn, {.columns = 2}), Error);
  CHECK_THROWS_AS(find_board(drawn, {.pitch_mm = 0}), Error);
  CHECK_THROWS_AS(find_board(drawn, {.pitch_mm = NAN}), Error);
}

TEST_CASE("a plane mapping from one noisy picture measures any distance to 0.01 mm") {
  double squares = 0;  // of the error at the middle of the picture, in sigmas
  for (uint64_t seed = 1; seed <= 6; ++seed) {
    CAPTURE(seed);
    Random random(seed);
    BoardPicture picture{.camera = camera_above(600, {.fx = 2400, .fy = 2400}, degrees(random.uniform(0, 3)),
                                                degrees(random.uniform(-180, 180))),
                         .seed = seed};
    const BoardSeen seen = find_board(picture.draw(), picture.shape);
    REQUIRE_MESSAGE(seen.found, seen.reason);
    const PlaneCalibration c = calibrate_plane(seen.points, picture.shape, seen.dot_radius_px, 1280, 1024);
    CHECK(c.rms_px < 0.05);
    CHECK(c.distortion_px < 0.05);
    double worst = 0;
    for (int k = 0; k < 200; ++k) {
      const auto board_point = [&] { return Point2{random.uniform(0, 216), random.uniform(0, 180)}; };
      const Point2 a = board_point(), b = board_point();
      const auto pixel = [&](Point2 p) {
        const Point2 t = picture.table_from_board * p;
        return picture.camera.project({t.x, t.y, 0});
      };
      const double measured =
          distance(c.mapping.world_from_pixel(pixel(a)), c.mapping.world_from_pixel(pixel(b)));
      worst = std::max(worst, std::abs(measured - distance(a, b)));
    }
    CHECK(worst < 0.01);
    // The claimed sigma at the centre is of the size of the error there.
    const WorldPose centre = c.mapping.world_pose({640, 512}, {});
    CHECK(*centre.sigma.x < 0.005);
    CHECK(*centre.sigma.x > 0.00005);
    const Point2 truth =
        picture.table_from_board.inverse() * picture.camera.plane_point({640, 512}, 0)->plain();
    squares += std::pow((centre.x_mm - truth.x) / *centre.sigma.x, 2) +
               std::pow((centre.y_mm - truth.y) / *centre.sigma.y, 2);
  }
  // Twelve errors: their mean square lies between 0.2 and 2.6 in 99 of 100 cases when the sigmas are true.
  CHECK(squares / 12 > 0.2);
  CHECK(squares / 12 < 2.6);
}

TEST_CASE("an oblique view keeps its accuracy since dot centres are corrected") {
  BoardPicture picture{.shape = {.kind = BoardKind::dots, .columns = 9, .rows = 7, .pitch_mm = 16},
                       .camera = camera_above(620, {.fx = 2400, .fy = 2400}, 40_deg, 90_deg),
                       .noise = 0.5};
  picture.table_from_board = {-64, -48, 0_deg};
  const BoardSeen seen = find_board(picture.draw(), picture.shape);
  REQUIRE_MESSAGE(seen.found, seen.reason);
  const PlaneCalibration c = calibrate_plane(seen.points, picture.shape, seen.dot_radius_px, 1280, 1024);
  double worst = 0;
  for (int j = 0; j < 7; ++j)
    for (int i = 0; i < 9; ++i)
      worst = std::max(worst, distance(c.mapping.pixel_from_world(WorldPoint(picture.shape.point(i, j))),
                                       picture.truth(i, j)));
  CHECK(worst < 0.03);
}

TEST_CASE("a lens that bends lines is noticed") {
  BoardPicture picture{.camera = camera_above(600, {.fx = 2400, .fy = 2400, .k1 = -0.2})};
  const BoardSeen seen = find_board(picture.draw(), picture.shape);
  REQUIRE(seen.found);
  CHECK(calibrate_plane(seen.points, picture.shape, seen.dot_radius_px, 1280, 1024).distortion_px > 0.5);
}

TEST_CASE("too few points, or points on a line, do not make a mapping") {
  const BoardShape shape;
  std::vector<BoardPoint> line;
  for (int i = 0; i < 12; ++i) line.push_back({i, 0, {10.0 * i, 5.0}});
  CHECK_THROWS_WITH_AS(calibrate_plane(line, shape, 0, 100, 100), doctest::Contains("one line"), Error);
  line.resize(5);
  CHECK_THROWS_WITH_AS(calibrate_plane(line, shape, 0, 100, 100), doctest::Contains("at least 9"), Error);
}
