#include "cart_driver.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>

#include "heron/base/error.hpp"

namespace heron {

using namespace text_protocol;
using Parts = std::vector<CartPart>;

namespace {

LineSocket accepted(LineListener& listener, LineSocket::Duration timeout) {
  auto socket = listener.accept(timeout);
  if (!socket)
    throw Error(ErrorCode::no_connection,
                fmt::format("cart: no station came to {} within {:.0f} s", listener.address().text(),
                            std::chrono::duration<double>(timeout).count()));
  return std::move(*socket);
}

}  // namespace

StationAsker::StationAsker(LineListener& listener, LineSocket::Duration timeout)
    : station_(accepted(listener, timeout), LinkMode::ask), timeout_(timeout) {
  // A station waits for the answer to its greeting, long before it is asked for the first time.
  if (const auto line = station_.listen(timeout_); !line || !std::holds_alternative<Hello>(*line))
    throw Error(ErrorCode::no_connection, "cart: what connected is no station");
}

StationLine StationAsker::answer() {
  for (;;) {
    auto line = station_.listen(timeout_);
    if (!line) throw Error(ErrorCode::no_connection, "cart: a station is gone or silent");
    if (const auto* refusal = std::get_if<Refusal>(&*line))
      throw Error(ErrorCode::no_connection, "cart: the station said: " + refusal->reason);
    if (!std::holds_alternative<Hello>(*line)) return *line;
  }
}

void StationAsker::say(const RobotLine& line) {
  if (!station_.say(line)) throw Error(ErrorCode::no_connection, "cart: a station is gone");
}

std::optional<std::vector<CartPart>> StationAsker::ask() {
  std::vector<CartPart> parts;
  for (int newest = 0;;) {
    say(Next{});
    const StationLine line = answer();
    if (const auto* part = std::get_if<Part>(&line)) {
      say(Ack{part->number, part->index});
      // An answer that came again is the same part.
      if (part->index > newest)
        parts.push_back({part->name, (*part)[Field::x].value_or(0), (*part)[Field::y].value_or(0),
                         (*part)[Field::angle].value_or(0)});
      newest = std::max(newest, part->index);
    } else if (const auto* none = std::get_if<None>(&line)) {
      say(Ack{none->number});
      return parts;
    } else if (std::holds_alternative<EndOfResults>(line)) {
      return std::nullopt;
    }
  }
}

namespace {

constexpr double cycle_s = 0.1;

const CartPart* named(const Parts& parts, const char* name) {
  const auto it = std::find_if(parts.begin(), parts.end(), [&](const CartPart& p) { return p.name == name; });
  return it == parts.end() ? nullptr : &*it;
}

/// The bore's axis in the cart's frame, as the plate and the bore tell it.
struct Axis {
  Point2 mouth;   ///< of the bore
  Angle heading;  ///< into the door
};

std::optional<Axis> axis_of(const Parts& parts) {
  const CartPart* plate = named(parts, "plate");
  if (!plate) return std::nullopt;
  // The plate's own X axis runs to the right of who faces it.
  Axis axis{{plate->x, plate->y}, degrees(plate->angle + 90).wrapped()};
  if (const CartPart* bore = named(parts, "bore"); bore && std::abs(bore->y - plate->y) < 15)
    axis.mouth = {bore->x, bore->y};
  return axis;
}

/// Wheels that are worn unlike each other pull to one side all the way. How much is the slope, over the way
/// driven, of the heading that is seen against the one that was told.
class WheelPull {
 public:
  void told(double mm, double curvature) {
    before_last_ = last_, last_ = now_;
    now_.way += mm, now_.heading += mm * curvature;
  }
  void heading_seen(double heading) {
    // The picture is one to two cycles old.
    const double way = 0.5 * (last_.way + before_last_.way),
                 off = heading - 0.5 * (last_.heading + before_last_.heading);
    ++count_, way_ += way, ways_ += way * way, off_ += off, both_ += way * off;
  }
  double curvature() const {
    const double spread = ways_ - way_ * way_ / count_;
    if (count_ < 8 || spread < count_ * 200) return 0;
    return std::clamp((both_ - way_ * off_ / count_) / spread, -4e-4, 4e-4);
  }

 private:
  struct Told {
    double way = 0, heading = 0;
  };
  Told now_, last_, before_last_;
  double count_ = 0, way_ = 0, ways_ = 0, off_ = 0, both_ = 0;
};

class Driver {
 public:
  Driver(Cart& cart, LineListener& floor, LineListener& door, const CartDriving& d,
         const CartWatcher& watcher)
      : cart_(cart), d_(d), watcher_(watcher), floor_(floor, timeout), door_(door, timeout) {}

  CartLog drive() {
    if (follow()) dock();
    cart_.park();
    for (StationAsker* station : {&floor_, &door_}) try {
        station->ask();  // it says that nothing follows, or has no picture any more and ends
      } catch (const Error& error) {
        if (error.code() != ErrorCode::no_connection) throw;
      }
    return log_;
  }

 private:
  static constexpr LineSocket::Duration timeout{20000};

  bool lost(const std::string& reason) {
    log_.end = CartState::lost, log_.reason = reason;
    return false;
  }
  void move(double speed, double turn) {
    cart_.drive(speed, std::clamp(turn, -0.8, 0.8), cycle_s);
    if (watcher_) watcher_(log_.end);
  }
  std::optional<Axis> look_at_door() {
    const auto parts = door_.ask();
    ++log_.door_results;
    return parts ? axis_of(*parts) : std::nullopt;
  }

  /// Steers at the place where the stripe is ahead (pure pursuit: Coulter, CMU-RI-TR-92-01, 1992), until the
  /// plate is near enough to stop before it.
  bool follow() {
    double curvature = 0;
    int blind = 0;
    for (int cycle = 0; cart_.time_s() < d_.give_up_s; ++cycle) {
      if (cart_.driven_mm() > d_.watch_from_mm && cycle % 4 == 0) {
        const auto axis = look_at_door();
        if (axis && axis->mouth.x - cart_.course().pin.x < d_.stop_mm) {
          log_.end = CartState::stopped;
          log_.stopped_before_mm = axis->mouth.x - cart_.course().pin.x;
          for (int i = 0; i < 5; ++i) move(0, 0);
          return true;
        }
      }
      const auto parts = floor_.ask();
      ++log_.floor_results;
      const CartPart* stripe = parts ? named(*parts, "stripe") : nullptr;
      if (stripe && stripe->x > 50) {
        curvature = 2 * stripe->y / (stripe->x * stripe->x + stripe->y * stripe->y);
        blind = 0;
      } else if (++blind > 8) {
        return lost(fmt::format("the stripe was not seen for {} results", blind));
      }
      const double speed = d_.speed_mm_s * (blind > 0 ? 0.5 : 1) / (1 + 150 * std::abs(curvature));
      move(speed, speed * curvature);
    }
    return lost("the kiln was not reached in time");
  }

  /// The curvature that brings the axle onto the axis and turns the cart along it. The slower it goes the
  /// shorter is the way it drives on an old picture, and the tighter it may steer.
  static double onto_axis(const Axis& axis, double speed) {
    const double beside = -cross(unit(axis.heading), axis.mouth);  // the axle, to the left
    const double tightness = std::max(26.0, 0.55 * speed);
    // Not too steeply, so that the plate stays in sight.
    const double wanted = -std::clamp(beside / (2.4 * tightness), -0.1, 0.1);
    return (wanted + axis.heading.radians()) / tightness;
  }
  /// Near the bore it is the pin's tip that must be on the axis; what is measured there needs no lever.
  double tip_onto_axis(const Axis& axis) const {
    constexpr double within_mm = 30;
    const Point2 pin = cart_.course().pin;
    const double beside = cross(unit(axis.heading), pin - axis.mouth);
    return (axis.heading.radians() - beside / within_mm) / pin.x;
  }

  /// Brings the cart along the bore's axis, slower the nearer it comes.
  bool dock() {
    int blind = 0;
    WheelPull pull;
    while (cart_.time_s() < d_.give_up_s) {
      const auto axis = look_at_door();
      if (!axis) {
        if (++blind > 8) return lost("the plate was not seen for nine results");
        move(0, 0);
        continue;
      }
      blind = 0;
      const double left_to_go = axis->mouth.x - cart_.course().pin.x;
      if (left_to_go < 6) {
        log_.end = CartState::docked;
        return true;
      }
      const double speed = std::clamp(0.3 * left_to_go, 15.0, d_.dock_mm_s);
      pull.heading_seen(-axis->heading.radians());
      const double curvature =
          (left_to_go > 180 ? onto_axis(*axis, speed) : tip_onto_axis(*axis)) - pull.curvature();
      pull.told(speed * cycle_s, curvature);
      move(speed, speed * curvature);
    }
    return lost("docking took too long");
  }

  Cart& cart_;
  CartDriving d_;
  CartWatcher watcher_;
  StationAsker floor_, door_;
  CartLog log_;
};

}  // namespace

CartLog drive_cart(Cart& cart, LineListener& floor, LineListener& door, const CartDriving& driving,
                   const CartWatcher& watcher) {
  if (!(driving.speed_mm_s >= 20 && driving.speed_mm_s <= 500))
    fail_argument(fmt::format("cart: a speed of {:g} mm/s must be from 20 to 500", driving.speed_mm_s));
  return Driver(cart, floor, door, driving, watcher).drive();
}

}  // namespace heron
