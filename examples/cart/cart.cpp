#include "cart.hpp"

#include <fmt/format.h>

#include <functional>

#include "heron/base/error.hpp"

namespace heron {
namespace {

constexpr double track_mm = 300;  // between the wheels
constexpr double max_speed = 600, max_turn = 2;

class CartCamera : public Camera {
 public:
  CartCamera(std::string name, const render::CartEye& eye, std::function<std::optional<Picture>()> take)
      : name_(std::move(name)), width_(eye.width), height_(eye.height), take_(std::move(take)) {}
  CameraInfo info() const override {
    return {.address = "simulated:" + name_,
            .name = "the cart's " + name_ + " camera",
            .width = width_,
            .height = height_};
  }
  std::optional<Picture> take() override { return take_(); }

 private:
  std::string name_;
  int width_, height_;
  std::function<std::optional<Picture>()> take_;
};

}  // namespace

Cart::Cart(render::CartCourse course, uint64_t seed, const CartSettings& settings)
    : course_(std::move(course)), settings_(settings), random_(seed ^ 0xca47ULL) {
  if (!(settings.latency_s >= 0 && settings.latency_s <= 5))
    fail_argument(fmt::format("cart: a latency of {:g} s must be from 0 to 5", settings.latency_s));
  if (!(settings.slip >= 0 && settings.slip <= 0.5))
    fail_argument(fmt::format("cart: a slip of {:g} must be from 0 to 0.5", settings.slip));
  // Worn wheels: each a little smaller or larger than it is thought to be.
  slip_left_ = 1 + 0.4 * settings.slip * random_.uniform(-1, 1);
  slip_right_ = 1 + 0.4 * settings.slip * random_.uniform(-1, 1);
  way_ = {course_.start}, times_ = {0};
}

void Cart::drive(double speed, double turn_rate, double seconds) {
  if (!(std::abs(speed) <= max_speed && std::abs(turn_rate) <= max_turn && seconds > 0 && seconds <= 10))
    fail_argument(
        fmt::format("cart: {:g} mm/s and {:g} rad/s for {:g} s; up to {:g}, {:g} and 10 are possible", speed,
                    turn_rate, seconds, max_speed, max_turn));
  const std::lock_guard lock(mutex_);
  constexpr double step = 0.02;
  for (double done = 0; done < seconds - 1e-9; done += step) {
    const double dt = std::min(step, seconds - done);
    const auto wheel = [&](double told, double worn) {
      return told * worn * (1 + settings_.slip * random_.normal());
    };
    const double left = wheel(speed - 0.5 * track_mm * turn_rate, slip_left_),
                 right = wheel(speed + 0.5 * track_mm * turn_rate, slip_right_);
    const double ahead = 0.5 * (left + right) * dt;
    const Angle turned = radians((right - left) / track_mm * dt);
    const Pose2 here = way_.back();
    const Point2 at = here.position() + unit(here.angle + turned * 0.5) * ahead;
    way_.push_back({at.x, at.y, (here.angle + turned).wrapped()});
    times_.push_back(times_.back() + dt);
    driven_mm_ += ahead;
  }
}

Pose2 Cart::seen_from() const {
  const double when = std::min(times_.back() - settings_.latency_s, settings_.frozen_from_s);
  size_t i = times_.size() - 1;
  while (i > 0 && times_[i] > when) --i;
  return way_[i];
}

Picture Cart::floor_picture() {
  const std::lock_guard lock(mutex_);
  Picture picture;
  picture.pixels = render::expose(render::exact_channels(render::floor_scene(course_, seen_from())),
                                  {.sigma = course_.floor_noise}, random_);
  picture.name = fmt::format("floor-{:07.2f}", times_.back());
  return picture;
}

Picture Cart::door_picture() {
  const std::lock_guard lock(mutex_);
  Picture picture;
  picture.pixels = render::expose(render::exact_picture(render::door_scene(course_, seen_from())),
                                  {.sigma = course_.door_noise}, random_);
  picture.name = fmt::format("door-{:07.2f}", times_.back());
  return picture;
}

std::unique_ptr<Camera> Cart::floor_camera() {
  return std::make_unique<CartCamera>("floor", course_.floor_eye, [this]() -> std::optional<Picture> {
    if (parked_) return std::nullopt;
    return floor_picture();
  });
}

std::unique_ptr<Camera> Cart::door_camera() {
  return std::make_unique<CartCamera>("door", course_.door_eye, [this]() -> std::optional<Picture> {
    if (parked_) return std::nullopt;
    return door_picture();
  });
}

void Cart::park() { parked_ = true; }

double Cart::time_s() const {
  const std::lock_guard lock(mutex_);
  return times_.back();
}

double Cart::driven_mm() const {
  const std::lock_guard lock(mutex_);
  return driven_mm_;
}

std::vector<Pose2> Cart::way() const {
  const std::lock_guard lock(mutex_);
  return way_;
}

CartArrival Cart::arrival() const {
  const std::lock_guard lock(mutex_);
  const Pose2 bore_from_cart = course_.world_from_bore.inverse() * way_.back();
  const Point2 tip = bore_from_cart * course_.pin;
  return {tip.y, bore_from_cart.angle, -tip.x};
}

}  // namespace heron
