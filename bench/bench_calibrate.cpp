// Calibration beside the yardstick on one thread, then accuracy against the renderer's truth and the honesty
// of the sigmas. `bench_calibrate --quick` leaves the long tables out.
#include <benchmark/benchmark.h>
#include <tbb/global_control.h>

#include <cstdio>
#include <cstring>
#include <map>

#include "fft_correlation.hpp"
#include "heron/calibrate/lens.hpp"
#include "heron/calibrate/rectify.hpp"
#include "heron/render/tray_station.hpp"
#include "ratios.hpp"

using namespace heron;
using namespace heron::render;

namespace {

const BoardShape dots{.kind = BoardKind::dots, .columns = 20, .rows = 15, .pitch_mm = 14};
const BoardShape corners{.kind = BoardKind::checker, .columns = 20, .rows = 15, .pitch_mm = 14};
const BoardShape views_board{.kind = BoardKind::checker, .columns = 11, .rows = 8, .pitch_mm = 15};
const Lens lens{
    .fx = 1900, .fy = 1902, .cx = 645.3, .cy = 508.8, .k1 = -0.12, .k2 = 0.05, .p1 = 0.0004, .p2 = -0.0003};

Image<uint8_t> drawn(const BoardShape& board, const CameraModel& camera, int width, int height,
                     uint64_t seed) {
  Scene scene;
  scene.camera = camera;
  scene.width = width, scene.height = height;
  scene.light = {1.0, {0.1, -0.1}, 0.1};
  scene.pieces = board_pieces(
      board, {-(board.columns - 1) * board.pitch_mm / 2, -(board.rows - 1) * board.pitch_mm / 2, {}});
  Random random(seed);
  return expose(exact_picture(scene), {.sigma = 2}, random);
}

CameraModel any_view(const Lens& l, Random& random) {
  CameraModel c = camera_above(random.uniform(380, 520), l, degrees(random.uniform(5, 40)),
                               degrees(random.uniform(-180, 180)), degrees(random.uniform(-180, 180)));
  c.camera_from_world.position += Eigen::Vector3d(random.uniform(-60, 60), random.uniform(-45, 45), 0);
  return c;
}

Point2 truth(const CameraModel& camera, const BoardShape& b, int column, int row) {
  const Point2 p =
      b.point(column, row) - Point2{(b.columns - 1) * b.pitch_mm / 2, (b.rows - 1) * b.pitch_mm / 2};
  return camera.project({p.x, p.y, 0});
}

void fft_correlation_one_angle(benchmark::State& state) {
  const Image<uint8_t> picture = drawn(dots, camera_above(600, {}), 1280, 1024, 1);
  Image<uint8_t> part(200, 150);
  for (int y = 0; y < 150; ++y) std::copy_n(picture.row(400 + y) + 500, 200, part.row(y));
  bench::FftCorrelation correlation(picture, part);
  for (auto _ : state) benchmark::DoNotOptimize(correlation.run());
}

void find_board_of(benchmark::State& state, const BoardShape& board) {
  const Image<uint8_t> picture = drawn(board, camera_above(600, {}, 5_deg, 30_deg), 1280, 1024, 2);
  size_t points = 0;
  for (auto _ : state) points = find_board(picture, board).points.size();
  state.counters["points"] = static_cast<double>(points);
}
void board_dots(benchmark::State& state) { find_board_of(state, dots); }
void board_corners(benchmark::State& state) { find_board_of(state, corners); }

void rectify_whole(benchmark::State& state) {
  const Image<uint8_t> picture = drawn(dots, camera_above(600, lens, 10_deg, 30_deg), 1280, 1024, 3);
  const Remap remap = undistorted(lens, 1280, 1024);
  for (auto _ : state) {
    const Image<uint8_t> straight = remap.apply(picture);
    benchmark::DoNotOptimize(straight.row(0));
  }
}

/// Everything but reading the files: boards found in 15 pictures of 5 megapixels, lens solved.
void lens_of_15_views_5_megapixels(benchmark::State& state) {
  const Lens large{.fx = 3800, .fy = 3804, .cx = 1295, .cy = 970, .k1 = -0.12, .k2 = 0.05};
  Random random(4);
  std::vector<Image<uint8_t>> pictures;
  while (pictures.size() < 15) {
    CameraModel c = any_view(large, random);
    c.camera_from_world.position.z() += 60;
    pictures.push_back(drawn(views_board, c, 2592, 1944, pictures.size()));
  }
  for (auto _ : state) {
    std::vector<BoardView> views;
    for (const Image<uint8_t>& p : pictures)
      if (const BoardSeen seen = find_board(p, views_board, {.any_part = true}); seen.found)
        views.push_back({"view", seen.points, 0, seen.whole || seen.marked});
    for (BoardView& v : views) v.placed = true;  // only the lens counts here
    benchmark::DoNotOptimize(calibrate_lens(views, views_board, 2592, 1944).rms_px);
    state.counters["views"] = static_cast<double>(views.size());
  }
}

/// Points of both kinds against the Cramer-Rao bound of one point alone in its surroundings, by tilt.
void print_point_accuracy() {
  std::printf(
      "\nboard points, 1280 x 1024, sigma 2: error beside the Cramer-Rao bound of a single point, and "
      "bias\n");
  std::printf("  %-8s %5s %12s %12s %7s %10s\n", "kind", "tilt", "rms px", "bound px", "ratio", "bias px");
  for (const BoardKind kind : {BoardKind::dots, BoardKind::checker})
    for (const double tilt : {0.0, 20.0, 45.0}) {
      const BoardShape board{.kind = kind, .columns = 9, .rows = 7, .pitch_mm = 16};
      const CameraModel camera = camera_above(620, {.fx = 2400, .fy = 2400}, degrees(tilt), 30_deg);
      // The bound of the middle point: its board moved by fractions of a pixel, seen within half a pitch.
      const Point2 middle = truth(camera, board, 4, 3);
      const double mm = 620.0 / 2400;
      const int half = static_cast<int>(0.5 * 16 / mm * std::cos(degrees(tilt).radians()));
      const auto exact = [&](const Eigen::VectorXd& shift) {
        Scene scene;
        scene.camera = camera;
        scene.camera.lens.cx -= std::round(middle.x) - half,
            scene.camera.lens.cy -= std::round(middle.y) - half;
        scene.width = scene.height = 2 * half + 1;
        scene.pieces = board_pieces(board, {-64 + shift[0], -48 + shift[1], {}});
        return exact_picture(scene);
      };
      const Eigen::MatrixXd world_bound =
          cramer_rao_bound(exact, Eigen::VectorXd::Zero(2), Eigen::VectorXd::Constant(2, 0.02), 2.0);
      // From millimetres on the board to pixels.
      const Point2 dx = camera.project({0.1, 0, 0}) - camera.project({-0.1, 0, 0}),
                   dy = camera.project({0, 0.1, 0}) - camera.project({0, -0.1, 0});
      Eigen::Matrix2d j;
      j << dx.x / 0.2, dy.x / 0.2, dx.y / 0.2, dy.y / 0.2;
      const double bound = std::sqrt((j * world_bound * j.transpose()).trace() / 2);
      double squares = 0;
      std::map<std::pair<int, int>, Point2> mean;
      int n = 0;
      const int runs = 20;
      for (int run = 0; run < runs; ++run) {
        const Image<uint8_t> picture = drawn(board, camera, 1280, 1024, 100 + static_cast<uint64_t>(run));
        const BoardSeen seen = find_board(picture, board);
        if (!seen.found) continue;
        // A slanted dot's centre is the centre of its ellipse.
        const Homography h = pixel_from_table(camera);
        for (const BoardPoint& p : seen.points) {
          const Point2 w = board.point(p.column, p.row) - Point2{64, 48};
          const Point2 expected = kind == BoardKind::dots ? projected_circle_centre(h, w, 4) : apply(h, w);
          const Point2 off = p.pixel - expected;
          squares += dot(off, off), ++n;
          mean[{p.column, p.row}] += off / runs;
        }
      }
      double bias = 0;
      for (const auto& [at, m] : mean) bias += dot(m, m) / (2.0 * static_cast<double>(mean.size()));
      const double rms = std::sqrt(squares / (2 * n));
      // What 20 noisy pictures leave of a mean is taken off.
      const double plain = std::max(0.0, bias - rms * rms / runs);
      std::printf("  %-8s %4.0f° %12.5f %12.5f %7.2f %10.5f\n", kind == BoardKind::dots ? "dots" : "corners",
                  tilt, rms, bound, rms / bound, std::sqrt(plain));
    }
}

/// 2000 calibrations from simulated points, lens, poses and noise drawn at random, k3 in half of them.
void print_lens_coverage() {
  static constexpr const char* names[] = {"fx", "fy", "cx", "cy", "k1", "k2", "p1", "p2"};
  const int runs = 2000;
  Random random(777);
  Eigen::Matrix<double, 9, 1> two = Eigen::Matrix<double, 9, 1>::Zero(), three = two, squares = two;
  for (int run = 0; run < runs; ++run) {
    Lens l{.fx = random.uniform(1500, 2300),
           .cx = random.uniform(620, 660),
           .cy = random.uniform(490, 530),
           .k1 = random.uniform(-0.25, 0.15),
           .k2 = random.uniform(-0.1, 0.2),
           .p1 = random.uniform(-1e-3, 1e-3),
           .p2 = random.uniform(-1e-3, 1e-3)};
    l.fy = l.fx * random.uniform(0.998, 1.002);
    if (run % 2) l.k3 = random.uniform(-2, 2);
    const double noise = random.uniform(0.01, 0.05);
    std::vector<BoardView> views;
    while (views.size() < 10) {
      const CameraModel c = any_view(l, random);
      BoardView v{"view", {}, 0};
      for (int j = 0; j < views_board.rows; ++j)
        for (int i = 0; i < views_board.columns; ++i) {
          const Point2 p =
              truth(c, views_board, i, j) + Point2{noise * random.normal(), noise * random.normal()};
          if (p.x > 5 && p.y > 5 && p.x < 1274 && p.y < 1018) v.points.push_back({i, j, p});
        }
      if (v.points.size() > 60) views.push_back(std::move(v));
    }
    const LensCalibration c = calibrate_lens(views, views_board, 1280, 1024);
    const LensVector off = vector_of(c.mapping.camera().lens) - vector_of(l),
                     sigma = c.mapping.covariance().diagonal().head<9>().cwiseSqrt();
    for (int k = 0; k < 8; ++k) {
      const double z = off[k] / sigma[k];
      two[k] += std::abs(z) < 2, three[k] += std::abs(z) < 3, squares[k] += z * z;
    }
  }
  std::printf(
      "\nlens parameters of %d calibrations (10 views of 88 points): truth within two and three of their "
      "sigmas, and spread over sigma\n",
      runs);
  for (int k = 0; k < 8; ++k)
    std::printf("  %-4s %6.2f %% %6.2f %%   1 : %.3f\n", names[k], 100 * two[k] / runs, 100 * three[k] / runs,
                std::sqrt(squares[k] / runs));
}

/// The same from whole pictures: boards drawn, found and solved.
void print_whole_pictures() {
  const int runs = 50;
  Random random(4242);
  int inside2 = 0, inside3 = 0, judged = 0;
  double squares = 0;
  for (int run = 0; run < runs; ++run) {
    Lens l{.fx = random.uniform(1600, 2200),
           .cx = random.uniform(625, 655),
           .cy = random.uniform(495, 525),
           .k1 = random.uniform(-0.2, 0.05),
           .k2 = random.uniform(-0.05, 0.1)};
    l.fy = l.fx * random.uniform(0.998, 1.002);
    std::vector<BoardView> views;
    for (uint64_t seed = 0; views.size() < 10; ++seed) {
      const CameraModel c = any_view(l, random);
      const BoardSeen seen = find_board(
          drawn(views_board, c, 1280, 1024, 1000 * static_cast<uint64_t>(run) + seed), views_board);
      if (seen.found && seen.whole) views.push_back({"view", seen.points, 0});
    }
    const LensCalibration c = calibrate_lens(views, views_board, 1280, 1024);
    const LensVector off = vector_of(c.mapping.camera().lens) - vector_of(l),
                     sigma = c.mapping.covariance().diagonal().head<9>().cwiseSqrt();
    for (int k = 0; k < 8; ++k, ++judged) {
      const double z = off[k] / sigma[k];
      inside2 += std::abs(z) < 2, inside3 += std::abs(z) < 3, squares += z * z;
    }
  }
  std::printf(
      "\nlens parameters of %d calibrations from 10 whole pictures each: %.1f %% within two sigma, %.1f %% "
      "within "
      "three, 1 : %.3f\n",
      runs, 100.0 * inside2 / judged, 100.0 * inside3 / judged, std::sqrt(squares / judged));
}

}  // namespace

BENCHMARK(fft_correlation_one_angle)->Unit(benchmark::kMillisecond)->Repetitions(3);
BENCHMARK(board_dots)->Unit(benchmark::kMillisecond)->Repetitions(3);
BENCHMARK(board_corners)->Unit(benchmark::kMillisecond)->Repetitions(3);
BENCHMARK(rectify_whole)->Unit(benchmark::kMillisecond)->Repetitions(3);
BENCHMARK(lens_of_15_views_5_megapixels)->Unit(benchmark::kMillisecond)->Iterations(1)->Repetitions(2);

int main(int argc, char** argv) {
  bool quick = false;
  for (int i = 1; i < argc; ++i)
    if (std::strcmp(argv[i], "--quick") == 0) {
      quick = true;
      std::copy(argv + i + 1, argv + argc, argv + i);
      --argc;
    }
  const tbb::global_control one_thread(tbb::global_control::max_allowed_parallelism, 1);
  benchmark::Initialize(&argc, argv);
  bench::Ratios reporter;
  benchmark::RunSpecifiedBenchmarks(&reporter);
  reporter.print();
  if (quick) return 0;
  print_point_accuracy();
  print_whole_pictures();
  print_lens_coverage();
}
