// A taught leaf against the renderer's truth, taught anew for every picture: error beside the Cramer-Rao
// bound of teaching and finding together, bias, and how often the truth lies within two and three of the
// reported sigmas. `bench_pattern_accuracy [PICTURES] [SEED] [WORD]`: only settings whose name holds the
// word.
#include <cmath>
#include <cstdio>
#include <cstdlib>
#include <string>

#include "heron/locate/pattern.hpp"
#include "heron/locate/prepared_picture.hpp"
#include "heron/render/tray_station.hpp"

using namespace heron;
using namespace heron::render;

namespace {

constexpr int side = 300;

struct Setting {
  const char* name;
  double noise = 2, light = 1, gradient = 0.1, blur = 0.8, texture = 0, covered = 0;
  Range<double> scale = {1, 1};
  Inversion inversion = Inversion::none;
  /// A plate with straight edges along the pixels, taught at 0 degrees and found at 0, 90, 180 and 270, where
  /// all pixels along an edge see it alike; else a leaf at any angle.
  bool plate = false;
};

CameraModel camera() {
  return camera_above(600, {.fx = 2400, .fy = 2400, .cx = (side - 1) / 2.0, .cy = (side - 1) / 2.0});
}

/// A leaf tile at x, y (mm), angle (radians), relative size.
Scene scene_of(const Setting& s, const Eigen::VectorXd& c, uint64_t seed) {
  Scene scene;
  scene.camera = camera();
  scene.width = scene.height = side;
  scene.texture = s.texture, scene.texture_seed = seed;
  scene.light = {s.light, {s.gradient, -0.7 * s.gradient}, 0};
  scene.blur_px = s.blur;
  const Pose2 pose{c[0], c[1], radians(c[2])};
  if (s.plate)
    scene.pieces = {{rectangle(40, 26), pose, 0.62}, {rectangle(9, 6, {12, 6}), pose, 0.2}};
  else
    scene.pieces = tile_pieces("leaf", pose, 0.62);
  for (Piece& p : scene.pieces) p.outline = scaled(p.outline, c[3]);
  if (s.covered > 0) {
    const double width = 48 * s.covered;
    scene.pieces.push_back({rectangle(width, 50, {-24 + width / 2, 0}), pose, 0.4});
  }
  return scene;
}

Eigen::VectorXd pose_of(double x, double y, double angle, double scale) {
  Eigen::VectorXd c(4);
  c << x, y, angle, scale;
  return c;
}

/// Of x, y (pixels), angle (radians), scale.
Eigen::MatrixXd bound_of(const Setting& s, double angle) {
  const bool scaled = s.scale.max > s.scale.min;
  const double mm = 600.0 / 2400;
  Eigen::VectorXd at(scaled ? 4 : 3), steps(at.size());
  at << pose_of(0.1 * mm, 0.2 * mm, angle, 1).head(at.size());
  steps << Eigen::Vector4d(0.05 * mm, 0.05 * mm, 0.0005, 0.0005).head(at.size());
  const auto exact = [&](const Eigen::VectorXd& c) {
    return exact_picture(scene_of(s, pose_of(c[0], c[1], c[2], scaled ? c[3] : 1), 1));
  };
  Eigen::MatrixXd bound = cramer_rao_bound(exact, at, steps, s.noise);
  bound.topRows(2) /= mm, bound.leftCols(2) /= mm;
  return bound;
}

struct Errors {
  const char* name;
  double bound = 0, squares = 0, sum = 0;
  int runs = 0, within_two = 0, within_three = 0;

  void add(double error, double sigma) {
    ++runs, squares += error * error, sum += error;
    within_two += std::abs(error) < 2 * sigma, within_three += std::abs(error) < 3 * sigma;
  }
  void print() const {
    const double n = std::max(1, runs), rms = std::sqrt(squares / n);
    std::printf(
        "    %-12s rms %.5f  bound %.5f  ratio %.2f  bias %+.5f  within two sigma %5.1f %%  three %5.1f %%\n",
        name, rms, bound, rms / bound, sum / n, 100 * within_two / n, 100 * within_three / n);
  }
};

void measure(const Setting& s, int pictures, uint64_t seed_of_all) {
  // Teaching has its own light and no cover: only what is seen of both pictures can be compared.
  const Setting teaching{
      .name = "", .noise = s.noise, .blur = s.plate ? s.blur : 0.8, .texture = s.texture, .plate = s.plate};
  const double turn = s.plate ? 0 : 0.7;
  const Eigen::MatrixXd find_bound = bound_of(s, turn), teach_bound = bound_of({.name = "",
                                                                                .noise = s.noise,
                                                                                .blur = teaching.blur,
                                                                                .scale = s.scale,
                                                                                .plate = s.plate},
                                                                               0);
  const Eigen::MatrixXd bound = find_bound + teach_bound;
  const double degree = 180 / std::numbers::pi;
  Errors x{.name = "x px", .bound = std::sqrt((bound(0, 0) + bound(1, 1)) / 2)},
      y{.name = "y px", .bound = x.bound},
      angle{.name = "angle deg", .bound = std::sqrt(bound(2, 2)) * degree},
      scale{.name = "scale", .bound = bound.rows() > 3 ? std::sqrt(bound(3, 3)) : 1};
  Random random(seed_of_all);
  int found = 0;
  for (int run = 0; run < pictures; ++run) {
    const auto seed = static_cast<uint64_t>(run);
    const auto pose = [&](double a, double size) {
      return pose_of(random.uniform(-2, 2), random.uniform(-2, 2), a, size);
    };
    const auto pixel = [&](const Eigen::VectorXd& c) { return camera().project({c[0], c[1], 0}); };
    const Eigen::VectorXd taught_at = pose(s.plate ? 0 : random.uniform(-0.05, 0.05), 1);
    const double size =
        s.scale.max > s.scale.min ? random.uniform(s.scale.min + 0.02, s.scale.max - 0.02) : 1;
    const double angle_there = s.plate ? std::numbers::pi / 2 * random.whole(0, 3)
                                       : random.uniform(-std::numbers::pi, std::numbers::pi);
    const Eigen::VectorXd there = pose(angle_there, size);
    const Image<uint8_t> taught =
        expose(exact_picture(scene_of(teaching, taught_at, 2 * seed + 1)), {.sigma = s.noise}, random);
    const PatternTarget target =
        teach_pattern(taught, Region::rectangle(pixel(taught_at), 204, 152, radians(-taught_at[2])),
                      {.origin = pixel(taught_at)});
    const Image<uint8_t> picture =
        expose(exact_picture(scene_of(s, there, 2 * seed + 2)), {.sigma = s.noise}, random);
    const FindResult f = find(target, PreparedPicture(Image<uint8_t>(picture)),
                              {.scale = s.scale, .min_score = 50, .inversion = s.inversion}, Explain::never);
    if (f.detections.size() != 1) continue;
    ++found;
    const Detection& seen = f.detections[0];
    x.add(seen.x - pixel(there).x, *seen.sigma.x), y.add(seen.y - pixel(there).y, *seen.sigma.y);
    angle.add((seen.angle + radians(there[2] - taught_at[2])).wrapped().degrees(),
              seen.sigma.angle->degrees());
    if (s.scale.max > s.scale.min) scale.add(seen.scale - size, *seen.sigma.scale);
  }
  std::printf("  %s: %d of %d found\n", s.name, found, pictures);
  x.print(), y.print(), angle.print();
  if (scale.runs) scale.print();
  std::fflush(stdout);
}

}  // namespace

int main(int argc, char** argv) {
  const int pictures = argc > 1 ? std::atoi(argv[1]) : 2000;
  const uint64_t seed = argc > 2 ? std::strtoull(argv[2], nullptr, 10) : 424242;
  std::printf("a leaf tile of 184 x 128 px, %d pictures each, noise 2 in teaching and finding unless said\n",
              pictures);
  for (const Setting& s :
       {Setting{.name = "clean"},
        {.name = "scale 0.9 to 1.1", .scale = {0.9, 1.1}},
        {.name = "half the light", .light = 0.5},
        {.name = "light that falls off by half across", .gradient = 0.5},
        {.name = "blur 1.3 where 0.8 was taught", .blur = 1.3},
        {.name = "blur 1.3 at half the light", .light = 0.5, .blur = 1.3},
        {.name = "noise 5 in both", .noise = 5},
        {.name = "a fifth covered", .covered = 0.2},
        {.name = "a plate at the taught angle", .plate = true},
        {.name = "a plate at the taught angle, blur 0.6", .blur = 0.6, .plate = true},
        {.name = "a plate at the taught angle, blur 1.2", .blur = 1.2, .plate = true},
        {.name = "a plate at the taught angle, noise 0.7", .noise = 0.7, .plate = true},
        {.name = "a plate at the taught angle, noise 5", .noise = 5, .plate = true},
        {.name = "a plate at the taught angle by edges alone", .inversion = Inversion::local, .plate = true},
        {.name = "a plate at the taught angle by edges alone, blur 0.6",
        .blur = 0.6,
        .inversion = Inversion::local,
        .plate = true},
        {.name = "a plate at the taught angle by edges alone, blur 1.2",
        .blur = 1.2,
        .inversion = Inversion::local,
        .plate = true},
        {.name = "on a very faintly textured tray (no part of the bound)", .texture = 0.003},
        {.name = "on a faintly textured tray (no part of the bound)", .texture = 0.006},
        {.name = "on a textured tray (no part of the bound)", .texture = 0.012}})
    if (argc < 4 || std::string(s.name).find(argv[3]) != std::string::npos) measure(s, pictures, seed);
}
