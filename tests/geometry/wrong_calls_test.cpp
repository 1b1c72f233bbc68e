#include <doctest/doctest.h>
#include <tbb/global_control.h>

#include <atomic>
#include <limits>
#include <stdexcept>

#include "geometry/least_squares.hpp"
#include "heron/base/error.hpp"
#include "heron/calibrate/plane.hpp"
#include "heron/geometry/rigid_fit.hpp"
#include "heron/image/components.hpp"
#include "heron/image/gradient.hpp"
#include "heron/image/pyramid.hpp"
#include "heron/image/smooth.hpp"
#include "heron/render/scene.hpp"
#include "heron/render/tray_station.hpp"
#include "image/parallel.hpp"

// Every public call below the pattern, asked with what it was not made for: a clear error or an empty answer,
// never worse.

using namespace heron;

namespace {
constexpr double not_a_number = std::numeric_limits<double>::quiet_NaN(),
                 infinite = std::numeric_limits<double>::infinity();
}

TEST_CASE("pictures without pixels, and of one") {
  for (const auto& [w, h] : {std::pair{0, 0}, {0, 7}, {7, 0}, {1, 1}, {1, 9}, {9, 1}, {2, 2}, {3, 3}}) {
    CAPTURE(w);
    CAPTURE(h);
    const Image<uint8_t> image(w, h);
    CHECK(halve(image).width() == w / 2);
    CHECK(gradients(image).size.height() == h);
    CHECK(smooth(image.view(), 1.5).width() == w);
    CHECK(components(image).empty());
    CHECK(Image<Rgb>(w, h).width() == w);
    CHECK(Image<uint8_t>(image).height() == h);
  }
  CHECK_THROWS_AS(Image<float>(-1, 5), Error);
}

TEST_CASE("rows of every type start at a multiple of 64 bytes and are zero when new") {
  const auto aligned = [](const auto& image) {
    for (int y = 0; y < image.height(); ++y)
      if (reinterpret_cast<uintptr_t>(image.row(y)) % 64 != 0) return false;
    return true;
  };
  CHECK(aligned(Image<uint8_t>(37, 5)));
  CHECK(aligned(Image<Rgb>(37, 5)));
  CHECK(aligned(Image<uint16_t>(37, 5)));
  CHECK(aligned(Image<float>(37, 5)));
  const Image<Rgb> color(37, 5);
  CHECK(color(36, 4) == Rgb{});
}

TEST_CASE("a copied picture is another picture, a moved one is the same") {
  Image<uint8_t> a(10, 10);
  a(3, 3) = 7;
  Image<uint8_t> b = a;
  b(3, 3) = 8;
  CHECK(a(3, 3) == 7);
  const uint8_t* pixels = b.row(0);
  const Image<uint8_t> c = std::move(b);
  CHECK(c.row(0) == pixels);
}

TEST_CASE("chunks do not depend on threads, and nothing is left out") {
  std::vector<int> visits(1003, 0);
  parallel_rows(1003, 10, [&](int first, int end) {
    CHECK(first % 10 == 0);
    for (int i = first; i < end; ++i) ++visits[static_cast<size_t>(i)];
  });
  CHECK(std::count(visits.begin(), visits.end(), 1) == 1003);
  parallel_rows(0, 10, [](int, int) { FAIL("called for nothing"); });
  parallel_rows(-5, 10, [](int, int) { FAIL("called for nothing"); });
  std::vector<int> halves(1000, 0);
  const auto visit = [&](int from) {
    parallel_rows(500, 7, [&](int first, int end) {
      for (int i = from + first; i < from + end; ++i) ++halves[static_cast<size_t>(i)];
    });
  };
  parallel_pair([&] { visit(0); }, [&] { visit(500); });
  CHECK(std::count(halves.begin(), halves.end(), 1) == 1000);
}

TEST_CASE("errands are all done, on one thread and on several, and what one throws is thrown to who waits") {
  for (const size_t threads : {1, 2, 8}) {
    const tbb::global_control limit(tbb::global_control::max_allowed_parallelism, threads);
    std::atomic<int> done = 0;
    TaskGroup errands;
    for (int i = 0; i < 100; ++i)
      errands.begin([&] { parallel_rows(10, 3, [&](int first, int end) { done += end - first; }); });
    errands.wait();
    CHECK(done == 1000);
    errands.begin([] { throw std::runtime_error("an errand failed"); });
    CHECK_THROWS_WITH(errands.wait(), "an errand failed");
    errands.begin([] { throw std::runtime_error("nobody waits for this"); });
  }
}

TEST_CASE("mappings refuse what has no place") {
  Homography h;
  h << 4, 0, 600, 0, -4, 500, 0, 1e-3, 1;
  const PlaneMapping mapping(h);
  for (const Point2 p : {Point2{not_a_number, 0}, {0, not_a_number}, {infinite, 0}, {0, -infinite}})
    CHECK_THROWS_AS(mapping.world_pose(p, {}), Error);
  h(0, 0) = not_a_number;
  CHECK_THROWS_AS(PlaneMapping{h}, Error);
  h << 4, 0, 600, 0, -4, 500, 0, 1e-3, 0;
  CHECK_THROWS_AS(PlaneMapping{h}, Error);
  h << 1, 2, 3, 2, 4, 6, 0, 0, 1;
  CHECK_THROWS_AS(PlaneMapping{h}, Error);
}

TEST_CASE("fits refuse points that are none") {
  const std::vector<Point2> square{{0, 0}, {100, 0}, {100, 100}, {0, 100}};
  std::vector<Point2> broken = square;
  broken[2].x = not_a_number;
  CHECK_THROWS_AS(fit_rigid(square, broken), Error);
  CHECK_THROWS_AS(fit_rigid(square, {}), Error);
  CHECK_THROWS_AS(fit_rigid({}, {}), Error);
  CHECK_FALSE(homography_from_points(square, broken));
  CHECK_FALSE(homography_from_points({}, {}));
  CHECK_FALSE(homography_from_points(square, {{5, 5}, {5, 5}, {5, 5}, {5, 5}}));

  std::vector<BoardPoint> points;
  for (int j = 0; j < 4; ++j)
    for (int i = 0; i < 4; ++i) points.push_back({i, j, {50.0 * i, 40.0 * j}});
  points[5].pixel.y = not_a_number;
  CHECK_THROWS_AS(calibrate_plane(points, {.columns = 4, .rows = 4, .pitch_mm = 10}, 0, 300, 300), Error);
  CHECK_THROWS_AS(calibrate_plane({}, {.columns = 4, .rows = 4, .pitch_mm = 10}, 0, 300, 300), Error);
  CHECK_THROWS_AS(
      solve_least_squares([](const Eigen::VectorXd&, Eigen::VectorXd&) {}, Eigen::Vector3d(0, 0, 0), 2),
      Error);
}

TEST_CASE("a ray that does not meet the plane has no point there") {
  CameraModel camera = render::camera_above(600, {});
  CHECK_FALSE(camera.plane_point({600, 500}, 700));  // behind the camera
  camera.camera_from_world.rotation =
      Eigen::Quaterniond(Eigen::AngleAxisd(std::numbers::pi / 2, Eigen::Vector3d::UnitX()));
  CHECK_FALSE(
      camera.plane_point({camera.lens.cx, camera.lens.cy}, camera.camera_from_world.inverse().position.z()));
}

TEST_CASE("a scene may hold nothing, lie outside, or be one pixel") {
  render::Scene scene;
  scene.width = scene.height = 1;
  CHECK(render::exact_picture(scene)(0, 0) > 0);
  scene.width = 40, scene.height = 30;
  scene.pieces.push_back({render::disc(5), {10000, 10000, {}}, 1.0});
  scene.pieces.push_back({render::Outline{}, {}, 1.0});
  scene.blur_px = 0;
  const Image<float> picture = render::exact_picture(scene);
  CHECK(picture(20, 15) == doctest::Approx(0.25 * 230));
  CHECK_THROWS_AS(render::tile_pieces("brick", {}, 0.5), Error);
  CHECK_THROWS_AS(render::make_tray_station(1, {.views = 1, .leaves = 500}), Error);
}
