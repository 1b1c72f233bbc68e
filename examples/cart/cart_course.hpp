#pragma once
#include <vector>

#include "heron/base/pose3.hpp"
#include "heron/render/scene.hpp"

namespace heron::render {

/// A camera on the cart.
struct CartEye {
  Lens lens;
  Pose3 camera_from_cart;  ///< the cart's x forward, y to its left, z up from the floor below its axle
  int width = 0, height = 0;
};

/// The way of the kiln cart, with what its cameras see: a teal stripe on the floor round two bends, worn and
/// marked, and at its end the kiln's door with a plate that holds the peg bore. Everything follows from the
/// seed. World: x along the first straight, y to its left, z up; millimetres.
struct CartCourse {
  std::vector<Point2> stripe;  ///< middle line, 10 mm from point to point
  std::vector<double> along;   ///< length of the way up to each point
  std::vector<Piece> floor, door;
  Pose2 world_from_bore;  ///< the bore's axis: x points into the door, origin in its mouth
  CartEye floor_eye, door_eye;
  Point2 pin;  ///< tip of the cart's docking pin, in the cart's frame
  double bore_height_mm = 150, bore_diameter_mm = 40;
  double plate_width_mm = 200, plate_height_mm = 130;
  double stripe_width_mm = 28;
  Light floor_light, door_light;
  std::vector<Glare> floor_glares;  ///< fixed to the picture: the cart's own lamp
  double floor_noise = 2, door_noise = 2;
  Pose2 start;  ///< world_from_cart
};

CartCourse make_cart_course(uint64_t seed);

/// What a camera sees from where the cart stands.
Scene floor_scene(const CartCourse& course, const Pose2& world_from_cart);
Scene door_scene(const CartCourse& course, const Pose2& world_from_cart);
/// A camera of the cart in the world.
CameraModel camera_of(const CartEye& eye, const Pose2& world_from_cart);

}  // namespace heron::render
