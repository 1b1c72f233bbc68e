#include "cart_course.hpp"

#include <algorithm>
#include <cmath>

namespace heron::render {
namespace {

constexpr Tint floor_tint{1.0, 0.97, 0.90}, teal{0.12, 0.62, 0.60};
constexpr double floor_reflectance = 0.5, wall_reflectance = 0.28, plate_reflectance = 0.62;

Pose3 in_space(const Pose2& p) {
  return {Eigen::Quaterniond(Eigen::AngleAxisd(p.angle.radians(), Eigen::Vector3d::UnitZ())), {p.x, p.y, 0}};
}

/// A camera at a place of the cart that looks along its x, `down` degrees below the level.
Pose3 looking(const Eigen::Vector3d& from, Angle down) {
  // Camera axes in the cart: right is -y, forward is x turned downwards.
  const double c = cos(down), s = sin(down);
  Eigen::Matrix3d cart_from_camera;
  cart_from_camera.col(0) << 0, -1, 0;
  cart_from_camera.col(1) << -s, 0, -c;
  cart_from_camera.col(2) << c, 0, -s;
  const Pose3 pose{Eigen::Quaterniond(cart_from_camera), from};
  return pose.inverse();
}

/// Straight, left, straight, right, straight up to the door.
void lay_stripe(CartCourse& course, Random& random) {
  struct Stretch {
    double length, curvature;
  };
  const double left = 1 / random.uniform(650, 900), right = -1 / random.uniform(650, 900);
  const double bend = degrees(random.uniform(35, 60)).radians();
  const std::vector<Stretch> way{{random.uniform(500, 700), 0},
                                 {bend / left, left},
                                 {random.uniform(200, 400), 0},
                                 {-bend / right, right},
                                 {random.uniform(1300, 1500), 0}};
  constexpr double step = 10;
  Point2 at{-400, 0};  // it begins behind the cart
  double heading = 0, length = 0;
  const auto add = [&] { course.stripe.push_back(at), course.along.push_back(length); };
  for (; at.x < 0; at.x += step, length += step) add();
  for (const Stretch& s : way)
    for (double done = 0; done < s.length; done += step) {
      heading += 0.5 * step * s.curvature;
      at += unit(radians(heading)) * step, length += step;
      heading += 0.5 * step * s.curvature;
      add();
    }
}

Outline ribbon(const std::vector<Point2>& line, size_t first, size_t last, double width) {
  std::vector<Point2> left, right;
  for (size_t i = first; i <= last; ++i) {
    const Point2 u = line[std::min(i + 1, line.size() - 1)] - line[i > 0 ? i - 1 : 0], n{-u.y, u.x};
    left.push_back(line[i] + n * (0.5 * width / norm(u)));
    right.push_back(line[i] - n * (0.5 * width / norm(u)));
  }
  left.insert(left.end(), right.rbegin(), right.rend());
  return {{left}};
}

/// Scuffs, gaps and skid marks.
void wear_floor(CartCourse& course, Random& random) {
  const auto somewhere = [&] {
    return static_cast<size_t>(random.whole(20, static_cast<int>(course.stripe.size()) - 40));
  };
  const auto put = [&](Outline shape, Pose2 at, double reflectance, const Tint& tint) {
    course.floor.push_back(
        {.outline = std::move(shape), .world_from_piece = at, .reflectance = reflectance, .tint = tint});
  };
  for (int i = 0; i < 30; ++i) {  // worn through
    const Point2 p = course.stripe[somewhere()];
    put(disc(random.uniform(2, 9)), {p.x + random.uniform(-14, 14), p.y + random.uniform(-14, 14), {}},
        floor_reflectance * random.uniform(0.8, 1.05), floor_tint);
  }
  for (int i = 0; i < 4; ++i) {  // gaps
    const size_t k = somewhere();
    put(ribbon(course.stripe, k, k + static_cast<size_t>(random.whole(2, 6)), course.stripe_width_mm + 2), {},
        floor_reflectance, floor_tint);
  }
  for (int i = 0; i < 14; ++i) {  // skid marks and chalk, across and along
    const Point2 p = course.stripe[somewhere()];
    put(rectangle(random.uniform(60, 400), random.uniform(3, 14)),
        {p.x + random.uniform(-150, 150), p.y + random.uniform(-150, 150),
         degrees(random.uniform(-180, 180))},
        random.uniform() < 0.6 ? 0.25 : 0.75, floor_tint);
  }
}

void build_door(CartCourse& course, Random& random) {
  const Point2 end = course.stripe.back(), before = course.stripe[course.stripe.size() - 10];
  // The door hangs a little beside the stripe's end, and a little turned against it.
  const Angle heading = direction(end - before), turned = heading + degrees(random.uniform(-1, 1));
  const Point2 n{-sin(heading), cos(heading)};
  const Point2 at = end + unit(heading) * 40 + n * random.uniform(-6, 6);
  course.world_from_bore = {at.x, at.y, turned.wrapped()};
  const auto put = [&](Outline shape, double reflectance) {
    Piece piece{.outline = std::move(shape),
                .world_from_piece = {at.x, at.y, (turned - 90_deg).wrapped()},
                .reflectance = reflectance,
                .upright = true};
    piece.height_mm = course.bore_height_mm;
    course.door.push_back(std::move(piece));
  };
  const double w = course.plate_width_mm, h = course.plate_height_mm;
  put(rectangle(4000, 3000, {0, 1500 - course.bore_height_mm}), wall_reflectance);
  put(rectangle(18, 900, {-260, 300}), 0.5), put(rectangle(18, 900, {260, 300}), 0.5);  // the door's jambs
  put(rectangle(w, h), plate_reflectance);
  for (const auto& [x, y] : {std::pair{-1, -1}, {1, -1}, {1, 1}, {-1, 1}}) {
    const Point2 bolt{x * (w / 2 - 18), y * (h / 2 - 18)};
    put(disc(6, bolt), 0.8), put(disc(3, bolt), 0.15);
  }
  for (int i = 0; i < 8; ++i)  // soot
    put(disc(random.uniform(0.5, 2), {random.uniform(-80, 80), random.uniform(-45, 45)}),
        random.uniform(0.2, 0.5));
  put(disc(course.bore_diameter_mm / 2), 0.05);
}

Scene scene_of(const CartEye& eye, const Pose2& world_from_cart, const Light& light) {
  Scene scene;
  scene.camera = camera_of(eye, world_from_cart);
  scene.width = eye.width, scene.height = eye.height;
  scene.background = floor_reflectance, scene.background_tint = floor_tint;
  scene.light = light;
  scene.blur_px = 0.7;
  return scene;
}

}  // namespace

CameraModel camera_of(const CartEye& eye, const Pose2& world_from_cart) {
  return {eye.lens, eye.camera_from_cart * in_space(world_from_cart).inverse()};
}

CartCourse make_cart_course(uint64_t seed) {
  Random random(seed);
  CartCourse course;
  lay_stripe(course, random);
  course.floor.push_back(
      {.outline = ribbon(course.stripe, 0, course.stripe.size() - 1, course.stripe_width_mm),
       .reflectance = 0.85,
       .tint = teal});
  wear_floor(course, random);
  build_door(course, random);
  course.floor_eye = {{.fx = 320, .fy = 320, .cx = 159.5, .cy = 119.5, .k1 = -0.03},
                      looking({250, 0, 400}, degrees(86)),
                      320,
                      240};
  course.door_eye = {{.fx = 520, .fy = 520, .cx = 318, .cy = 241, .k1 = -0.03},
                     looking({120, 0, 170}, degrees(3)),
                     640,
                     480};
  course.pin = {330, 0};
  course.floor_light = {
      random.uniform(0.6, 1.2), {random.uniform(-0.4, 0.4), random.uniform(-0.3, 0.3)}, 0.15};
  course.door_light = {
      random.uniform(0.6, 1.3), {random.uniform(-0.4, 0.4), random.uniform(-0.3, 0.3)}, 0.15};
  if (random.uniform() < 0.5)
    course.floor_glares.push_back({{random.uniform(20, 300), random.uniform(20, 220)},
                                   random.uniform(10, 30),
                                   random.uniform(0.1, 0.5)});
  course.floor_noise = random.uniform(1.5, 4), course.door_noise = random.uniform(1.5, 4);
  course.start = {random.uniform(0, 200), random.uniform(-40, 40), degrees(random.uniform(-8, 8))};
  return course;
}

Scene floor_scene(const CartCourse& course, const Pose2& world_from_cart) {
  Scene scene = scene_of(course.floor_eye, world_from_cart, course.floor_light);
  scene.glares = course.floor_glares;
  // What lies farther off than the camera sees is left out.
  for (const Piece& piece : course.floor) {
    if (piece.outline.loops[0].size() > 100 ||
        distance(piece.world_from_piece.position(), world_from_cart.position()) < 900)
      scene.pieces.push_back(piece);
  }
  return scene;
}

Scene door_scene(const CartCourse& course, const Pose2& world_from_cart) {
  Scene scene = scene_of(course.door_eye, world_from_cart, course.door_light);
  scene.background_tint = white_tint;
  scene.pieces.push_back(course.floor[0]);
  scene.pieces.back().reflectance = 0.38;  // as a grey camera sees it
  scene.pieces.back().tint = white_tint;
  scene.pieces.insert(scene.pieces.end(), course.door.begin(), course.door.end());
  return scene;
}

}  // namespace heron::render
