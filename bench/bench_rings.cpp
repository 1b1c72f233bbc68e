// Ring marks against the renderer's truth: error beside the Cramer-Rao bound, honesty of the sigmas,
// identities read, and false marks in clutter. `bench_rings [--pictures N] [--reads N] [--clutter N]`
#include <cmath>
#include <cstdio>
#include <cstdlib>
#include <cstring>
#include <string>

#include "heron/feature/ring_mark.hpp"
#include "heron/render/tray_station.hpp"

using namespace heron;
using namespace heron::render;

namespace {

constexpr double size_mm = 40;

struct Setting {
  double diameter_px, tilt, turn;
  Point2 shift_mm;
  int identity = 7;
};

/// All that a projection can do to a mark: x, y in mm, turn in radians, relative size, two terms of
/// perspective, stretch and shear.
constexpr int unknowns = 8;

Point2 warped(Point2 p, const Eigen::VectorXd& c) {
  const Point2 q{p.x * (1 + c[3] + c[6]) + p.y * c[7], p.y * (1 + c[3] - c[6]) + p.x * c[7]};
  return q / (1 + (c[4] * p.x + c[5] * p.y) / (size_mm / 2));
}

Scene scene_of(const Setting& s, const Eigen::VectorXd& change) {
  const int side = static_cast<int>(1.9 * s.diameter_px) + 14;
  Lens lens{.fx = 2000, .fy = 2000, .cx = (side - 1) / 2.0, .cy = (side - 1) / 2.0};
  Scene scene;
  scene.camera = camera_above(size_mm * 2000 / s.diameter_px, lens, degrees(s.tilt), degrees(s.turn * 1.7));
  scene.width = scene.height = side;
  scene.background = 0.9;
  Outline outline = ring_mark({s.identity, size_mm});
  for (auto& loop : outline.loops)
    for (Point2& p : loop) p = warped(p, change);
  scene.pieces.push_back(
      {outline,
       {s.shift_mm.x + change[0], s.shift_mm.y + change[1], degrees(s.turn) + radians(change[2])},
       0.06});
  return scene;
}

struct Truth {
  Point2 centre;
  Angle angle;
};

Truth truth_of(const Setting& s, const Eigen::VectorXd& change) {
  const Scene scene = scene_of(s, change);
  const Piece& p = scene.pieces[0];
  const auto pixel = [&](Point2 m) {
    const Point2 w = p.world_from_piece * warped(m, change);
    return scene.camera.project({w.x, w.y, 0});
  };
  return {pixel({}), direction(pixel({0.01, 0}) - pixel({-0.01, 0}))};
}

/// Bound of centre x, y (pixels) and angle (radians).
Eigen::Matrix3d bound_of(const Setting& s, double sigma) {
  const Eigen::VectorXd zero = Eigen::VectorXd::Zero(unknowns);
  Eigen::VectorXd steps(unknowns);
  const double mm = size_mm / s.diameter_px;
  steps << 0.05 * mm, 0.05 * mm, 0.05 / s.diameter_px, 0.05 / s.diameter_px, 0.005, 0.005,
      0.05 / s.diameter_px, 0.05 / s.diameter_px;
  const Eigen::MatrixXd bound = cramer_rao_bound(
      [&](const Eigen::VectorXd& c) { return exact_picture(scene_of(s, c)); }, zero, steps, sigma);
  Eigen::MatrixXd by(3, unknowns);
  for (int k = 0; k < unknowns; ++k) {
    Eigen::VectorXd at = zero;
    at[k] = steps[k];
    const Truth ahead = truth_of(s, at), behind = truth_of(s, -at);
    by.col(k) << (ahead.centre.x - behind.centre.x), (ahead.centre.y - behind.centre.y),
        (ahead.angle - behind.angle).wrapped().radians();
    by.col(k) /= 2 * steps[k];
  }
  return by * bound * by.transpose();
}

void print_accuracy(int pictures) {
  std::printf(
      "ring marks, sigma 2, %d pictures each: rms error of the centre (one coordinate) and of the angle, as "
      "shares of the bound; bias; truth within two sigma\n",
      pictures);
  std::printf("  %8s %5s %6s %10s %7s %9s %12s %7s %9s %8s %8s\n", "diameter", "tilt", "found", "centre px",
              "/bound", "bias px", "angle deg", "/bound", "bias deg", "2s xy", "2s angle");
  for (const double diameter : {20.0, 24.0, 30.0, 60.0, 150.0})
    for (const double tilt : {0.0, 30.0, 45.0}) {
      if (diameter * std::cos(degrees(tilt).radians()) < 19.9) continue;
      Eigen::Matrix3d bound = Eigen::Matrix3d::Zero();  // the mean over four turns
      for (const double turn : {-100.0, -10.0, 20.0, 155.0})
        bound += bound_of({diameter, tilt, turn, {0.3 * size_mm / diameter, 0}}, 2) / 4;
      Random random(static_cast<uint64_t>(diameter * 100 + tilt));
      double squares = 0, angle_squares = 0, share = 0, angle_share = 0, bias_x = 0, bias_y = 0, bias_a = 0;
      int found = 0, inside = 0, inside_angle = 0;
      const int runs = diameter > 100 ? pictures / 8 : pictures;
      for (int run = 0; run < runs; ++run) {
        Setting s{diameter, tilt, random.uniform(-180, 180), {}, 1 + run % RingShape::identities};
        const double mm = size_mm / diameter;
        s.shift_mm = {random.uniform(-1, 1) * mm, random.uniform(-1, 1) * mm};
        const Eigen::VectorXd none = Eigen::VectorXd::Zero(unknowns);
        const Image<uint8_t> picture = expose(exact_picture(scene_of(s, none)), {.sigma = 2}, random);
        const Truth truth = truth_of(s, none);
        const auto marks = find_ring_marks(picture, {.min_diameter_px = 12});
        if (marks.size() != 1 || marks[0].identity != s.identity) continue;
        ++found;
        const RingSeen& m = marks[0];
        const Point2 off = m.centre - truth.centre;
        const double turn = (m.angle - truth.angle).wrapped().degrees();
        squares += dot(off, off) / 2, angle_squares += turn * turn;
        bias_x += off.x, bias_y += off.y, bias_a += turn;
        share += dot(off, off) / (bound(0, 0) + bound(1, 1));
        const double b = radians(std::sqrt(bound(2, 2))).degrees();
        angle_share += turn * turn / (b * b);
        inside += (std::abs(off.x) < 2 * *m.sigma.x) + (std::abs(off.y) < 2 * *m.sigma.y);
        inside_angle += std::abs(turn) < 2 * m.sigma.angle->degrees();
      }
      const double n = std::max(1, found);
      std::printf("  %8.0f %4.0f° %6.1f %10.5f %7.2f %9.5f %12.5f %7.2f %9.5f %8.1f %8.1f\n", diameter, tilt,
                  100.0 * found / runs, std::sqrt(squares / n), std::sqrt(share / n),
                  std::hypot(bias_x, bias_y) / n, std::sqrt(angle_squares / n), std::sqrt(angle_share / n),
                  bias_a / n, 50 * inside / n, 100 * inside_angle / n);
      std::fflush(stdout);
    }
}

/// Reads of small marks in poor light, tilted, blurred, noisy and partly hidden.
void count_reads(int reads) {
  Random random(99);
  int found = 0, wrong = 0, extra = 0;
  for (int run = 0; run < reads; ++run) {
    Setting s{random.uniform(20, 45),
              random.uniform(0, 40),
              random.uniform(-180, 180),
              {},
              random.whole(1, RingShape::identities)};
    s.diameter_px /= std::sqrt(std::cos(degrees(s.tilt).radians()));
    Scene scene = scene_of(s, Eigen::VectorXd::Zero(unknowns));
    scene.blur_px = random.uniform(0.5, 1.1);
    scene.light = {random.uniform(0.3, 1.05), {random.uniform(-0.3, 0.3), random.uniform(-0.3, 0.3)}, 0};
    if (random.uniform() < 0.3) {
      const double part = size_mm * random.uniform(0.05, 0.5), at = random.uniform(0, 6.283);
      scene.pieces.push_back({disc(part / 2),
                              {size_mm * 0.55 * std::cos(at), size_mm * 0.55 * std::sin(at), {}},
                              random.uniform(0, 1)});
    }
    const Image<uint8_t> picture = expose(exact_picture(scene), {.sigma = random.uniform(1, 5)}, random);
    const auto marks = find_ring_marks(picture, {.min_diameter_px = 14});
    bool right = false;
    for (const RingSeen& m : marks) {
      right = right || m.identity == s.identity;
      wrong += m.identity != s.identity;
    }
    found += right;
    extra += marks.size() > 1;
  }
  std::printf(
      "\n%d reads, 20 to 45 px, light 0.3 to 1.05, noise 1 to 5, three of ten with something over "
      "them: %.2f %% read, %d wrong identities, %d seen twice\n",
      reads, 100.0 * found / reads, wrong, extra);
}

/// Round things, rings, washers, gears, mirrored marks and other tiles, no mark among them.
void count_false(int pictures) {
  Random random(7);
  int false_marks = 0, things = 0;
  for (int run = 0; run < pictures; ++run) {
    Scene scene;
    scene.camera = camera_above(600, {.fx = 1200, .fy = 1200, .cx = 159.5, .cy = 119.5},
                                degrees(random.uniform(0, 30)), degrees(random.uniform(-180, 180)));
    scene.width = 320, scene.height = 240;
    scene.background = random.uniform(0.5, 0.95);
    scene.texture = random.uniform(0, 0.05);
    scene.texture_seed = static_cast<uint64_t>(run);
    scene.light = {random.uniform(0.4, 1.05), {random.uniform(-0.2, 0.2), random.uniform(-0.2, 0.2)}, 0};
    for (int k = 0; k < 14; ++k, ++things) {
      const Pose2 at{random.uniform(-75, 75), random.uniform(-55, 55), degrees(random.uniform(-180, 180))};
      const double radius = random.uniform(5, 22), dark = random.uniform(0, 0.35);
      Outline outline;
      switch (random.whole(0, 6)) {
        case 0:
          outline = disc(radius);
          break;
        case 1:
          outline = rosette(radius, random.whole(5, 16), 0.2 * radius);
          break;
        case 2:
          outline = hexagon(radius);
          break;
        case 3:
          outline = mirrored(ring_mark({random.whole(1, RingShape::identities), 2 * radius}));
          break;
        case 4: {  // a washer
          outline = disc(radius);
          auto hole = disc(radius * random.uniform(0.3, 0.85)).loops[0];
          outline.loops.emplace_back(hole.rbegin(), hole.rend());
          break;
        }
        case 5: {  // a ring with teeth of another kind
          outline = disc(radius);
          std::vector<Point2> hole;
          const int teeth = random.whole(3, 24);
          for (int i = 720; i > 0; --i) {
            const double a = i * 6.283185307179586 / 720;
            const bool tooth = (i * teeth / 720 * 7 + run) % 3 == 0;
            const double r = radius * (tooth ? random.uniform(0.36, 0.37) : 0.74);
            hole.push_back({r * std::cos(a), r * std::sin(a)});
          }
          outline.loops.push_back(hole);
          break;
        }
        default:
          outline = crescent(radius, radius * 0.8);
      }
      scene.pieces.push_back({outline, at, dark});
    }
    const Image<uint8_t> picture = expose(exact_picture(scene), {.sigma = random.uniform(1, 6)}, random);
    for (const RingSeen& m : find_ring_marks(picture)) {
      ++false_marks;
      std::printf("  false: picture %d identity %d at %.1f %.1f, %.1f px, score %.1f\n", run, m.identity,
                  m.centre.x, m.centre.y, m.diameter_px, m.score);
    }
  }
  std::printf("\n%d pictures of clutter with %d round things: %d false marks\n", pictures, things,
              false_marks);
}

}  // namespace

int main(int argc, char** argv) {
  int pictures = 400, reads = 100000, clutter = 10000;
  for (int i = 1; i + 1 < argc; i += 2) {
    const std::string name = argv[i];
    (name == "--pictures" ? pictures : name == "--reads" ? reads : clutter) = std::atoi(argv[i + 1]);
  }
  if (pictures) print_accuracy(pictures);
  if (reads) count_reads(reads);
  if (clutter) count_false(clutter);
}
