#pragma once
#include <atomic>
#include <memory>
#include <mutex>
#include <string>
#include <vector>

#include "cart_course.hpp"
#include "heron/camera/camera.hpp"

namespace heron {

/// How the simulated cart errs.
struct CartSettings {
  double latency_s = 0.15;     ///< age of what a camera shows when it is asked
  double slip = 0.05;          ///< how far its wheels may be off what they are told, as a share; 0 to 0.5
  double frozen_from_s = 1e9;  ///< from this time on its cameras show the same picture for ever
};

/// Where the cart came to stand, as only the simulation knows.
struct CartArrival {
  double beside_mm = 0;  ///< the pin's tip from the bore's axis, positive to the left
  Angle heading;         ///< of the cart against the bore's axis
  double before_mm = 0;  ///< the pin's tip before the bore's mouth
};

/// A cart that is not there: two driven wheels that slip, and two cameras whose pictures are rendered from
/// where it stands. Its clock moves only as it is driven. Safe to share between threads.
class Cart {
 public:
  /// Throws Error{invalid_argument} for settings out of range.
  explicit Cart(render::CartCourse course, uint64_t seed = 1, const CartSettings& settings = {});

  /// Drives for so long; speed up to 600 mm/s, turn in radians a second up to 2, positive to the left.
  void drive(double speed_mm_s, double turn_rate, double seconds);
  Picture floor_picture();
  Picture door_picture();
  /// Its cameras, as any other; `take` gives nothing once the cart is parked.
  std::unique_ptr<Camera> floor_camera();
  std::unique_ptr<Camera> door_camera();
  void park();
  bool parked() const { return parked_; }

  double time_s() const;
  double driven_mm() const;
  std::vector<Pose2> way() const;  ///< every place it was at, world_from_cart
  CartArrival arrival() const;
  const render::CartCourse& course() const { return course_; }

 private:
  Pose2 seen_from() const;

  mutable std::mutex mutex_;
  render::CartCourse course_;
  CartSettings settings_;
  render::Random random_;
  double slip_left_, slip_right_;
  std::vector<Pose2> way_;
  std::vector<double> times_;
  double driven_mm_ = 0;
  std::atomic<bool> parked_ = false;
};

}  // namespace heron
