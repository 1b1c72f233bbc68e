#include <doctest/doctest.h>

#include "cart/cart_cell.hpp"
#include "heron/files/picture_file.hpp"
#include "sanitized.hpp"
#include "support.hpp"

using namespace heron;
using support::error_of;
using support::TemporaryFolder;

namespace {

/// Calibrated and taught once, on another course than the trips'.
const CartCell& cart_cell() {
  static const TemporaryFolder folder;
  static const CartCell cell = [] {
    CartCell written = write_cart_cell(folder / "cart", 1);
    prepare_cart_stations(written, {"127.0.0.1", 1}, {"127.0.0.1", 2}, {"127.0.0.1", 3});
    return written;
  }();
  return cell;
}

/// A course whose cart stands on the last straight already, so that the trip is short.
render::CartCourse near_the_door(uint64_t seed) {
  render::CartCourse course = render::make_cart_course(seed);
  course.start = course.world_from_bore * Pose2{-990, 12, degrees(-2)};
  return course;
}

bool arrived(const CartTrip& trip) {
  return trip.log.end == CartState::docked && std::abs(trip.arrival.beside_mm) <= 1 &&
         std::abs(trip.arrival.heading.degrees()) <= 0.5;
}

bool same(const Picture& a, const Picture& b) {
  const auto &p = std::get<Image<uint8_t>>(a.pixels), &q = std::get<Image<uint8_t>>(b.pixels);
  for (int y = 0; y < p.height(); ++y)
    if (!std::equal(p.row(y), p.row(y) + p.width(), q.row(y))) return false;
  return true;
}

render::CartCourse noiseless(uint64_t seed) {
  render::CartCourse course = near_the_door(seed);
  course.door_noise = 0;
  return course;
}

}  // namespace

TEST_CASE("the cart docks at the bore on what the stations report, and misses when its picture is frozen") {
  {
    Cart cart(near_the_door(21), 21);
    const CartTrip trip =
        run_cart_trip(cart_cell(), cart, {.watch_from_mm = 0, .give_up_s = sanitized ? 2.0 : 25.0});
    CHECK(trip.log.door_results > 5);
    if (sanitized) return;
    CHECK(arrived(trip));
    CHECK(trip.log.stopped_before_mm > 300);
    CHECK(trip.arrival.before_mm > 0);
  }
  {
    Cart cart(near_the_door(21), 21, {.frozen_from_s = 4});
    CHECK_FALSE(arrived(run_cart_trip(cart_cell(), cart, {.watch_from_mm = 0, .give_up_s = 12})));
  }
}

TEST_CASE("the cart follows the stripe round both bends from any start" * doctest::skip(sanitized)) {
  for (const uint64_t seed : {31}) {
    CAPTURE(seed);
    Cart cart(render::make_cart_course(seed), seed);
    const CartTrip trip = run_cart_trip(cart_cell(), cart);
    CHECK(arrived(trip));
    CHECK(trip.log.floor_results > 50);
    // It kept to the stripe: no place of its way is far from the middle line.
    const auto way = cart.way();
    for (size_t i = way.size() / 6; i < way.size(); i += 20) {
      double nearest = 1e9;
      for (const Point2& p : cart.course().stripe)
        nearest = std::min(nearest, distance(p, way[i].position()));
      CHECK(nearest < 25);
    }
  }
}

TEST_CASE("the cart's wheels drive it as told, but for their slip") {
  Cart exact(near_the_door(3), 3, {.slip = 0});
  const Pose2 start = exact.course().start;
  exact.drive(200, 0, 1);
  const Point2 straight = start.inverse() * exact.way().back().position();
  CHECK(straight.x == doctest::Approx(200));
  CHECK(straight.y == doctest::Approx(0).epsilon(1e-9));
  exact.drive(100, 0.5, 1);  // along a circle of 200 mm
  const Pose2 turned = start.inverse() * exact.way().back();
  CHECK(turned.angle.radians() == doctest::Approx(0.5));
  CHECK(turned.x == doctest::Approx(200 + 200 * std::sin(0.5)).epsilon(1e-4));
  CHECK(turned.y == doctest::Approx(200 * (1 - std::cos(0.5))).epsilon(1e-3));
  CHECK(exact.driven_mm() == doctest::Approx(300));
  Cart slips(near_the_door(3), 3, {.slip = 0.2});
  slips.drive(200, 0, 1);
  CHECK(std::abs((start.inverse() * slips.way().back().position()).y) > 0.05);
  for (const auto& wrong : {std::pair{1000.0, 1.0}, {100.0, -1.0}, {std::nan(""), 1.0}})
    CHECK_THROWS_AS(exact.drive(wrong.first, 0, wrong.second), Error);
  CHECK_THROWS_AS(Cart(near_the_door(3), 3, {.latency_s = -1}), Error);
  CHECK_THROWS_AS(Cart(near_the_door(3), 3, {.slip = 2}), Error);
}

TEST_CASE("a camera of the cart shows where it was when the picture is as old as that") {
  Cart late(noiseless(5), 5, {.latency_s = 1, .slip = 0}),
      prompt(noiseless(5), 5, {.latency_s = 0, .slip = 0});
  const Picture first = prompt.door_picture();
  late.drive(100, 0, 1), prompt.drive(100, 0, 1);
  CHECK(same(late.door_picture(), first));
  CHECK_FALSE(same(prompt.door_picture(), first));
  Cart frozen(noiseless(5), 5, {.latency_s = 0, .slip = 0, .frozen_from_s = 0});
  frozen.drive(100, 0, 1);
  CHECK(same(frozen.door_picture(), first));
  const auto camera = prompt.door_camera();
  CHECK(camera->info().width == 640);
  CHECK(camera->take());
  prompt.park();
  CHECK_FALSE(camera->take());
}

TEST_CASE("what stands upright is where a camera that looks ahead should see it, and nothing from behind") {
  render::CartCourse course = noiseless(6);
  course.door_light = {};
  const Pose2 square = course.world_from_bore * Pose2{-600, 0, {}};
  const Image<float> picture = render::exact_picture(render::door_scene(course, square));
  const CameraModel camera = render::camera_of(course.door_eye, square);
  const auto at = [&](double right, double above) {
    const Point2 w = course.world_from_bore * Point2{0, -right};
    const Point2 p = camera.project({w.x, w.y, course.bore_height_mm + above});
    return picture(static_cast<int>(std::lround(p.x)), static_cast<int>(std::lround(p.y)));
  };
  CHECK(at(0, 0) < 20);    // in the bore
  CHECK(at(0, 30) > 100);  // on the plate
  CHECK(at(95, 0) > 100);  // its right end
  CHECK(at(106, 0) < 90);  // the door beside it
  CHECK(at(0, 130) < 90);  // above
  // Turned away from the door and everything else, the floor alone is seen.
  const Pose2 away = course.world_from_bore * Pose2{-600, 400, degrees(178)};
  render::Scene empty = render::door_scene(course, away);
  const Image<float> seen = render::exact_picture(empty);
  empty.pieces.clear();
  const Image<float> bare = render::exact_picture(empty);
  double most = 0;
  for (int y = 0; y < seen.height() / 3; ++y)
    for (int x = 0; x < seen.width(); ++x) most = std::max<double>(most, std::abs(seen(x, y) - bare(x, y)));
  CHECK(most < 1e-3);
}

TEST_CASE("the cart says so when no station comes, and when an address is taken") {
  Cart cart(near_the_door(7), 7);
  LineListener nobody({"127.0.0.1", 0});
  CHECK_THROWS_AS(StationAsker(nobody, LineSocket::Duration(50)), Error);
  const CartPictures pictures(cart, {"127.0.0.1", 0});
  CHECK(pictures.address().port > 0);
  CHECK_THROWS_AS(CartPictures(cart, pictures.address()), Error);
}
