#pragma once
#include <utility>
#include <vector>

#include "heron/base/error.hpp"
#include "heron/base/pose.hpp"
#include "heron/render/random.hpp"

namespace heron::render {

/// Places on the tray that keep their distance from each other.
class FreePlaces {
 public:
  FreePlaces(Random& random, double half_x, double half_y)
      : random_(random), half_x_(half_x), half_y_(half_y) {}

  void take(Point2 place, double radius) { taken_.emplace_back(place, radius); }

  /// A pose whose disc of `radius` touches no other; the last resort after many tries is said by an error.
  Pose2 next(double radius) {
    for (int attempt = 0; attempt < 20000; ++attempt) {
      const Pose2 pose{random_.uniform(-half_x_ + radius, half_x_ - radius),
                       random_.uniform(-half_y_ + radius, half_y_ - radius),
                       degrees(random_.uniform(-180, 180))};
      bool free = true;
      for (const auto& [p, r] : taken_) free = free && distance(p, pose.position()) > r + radius;
      if (!free) continue;
      taken_.emplace_back(pose.position(), radius);
      return pose;
    }
    fail_argument("tray: no place is free for a further tile; ask for fewer tiles");
  }

 private:
  Random& random_;
  double half_x_, half_y_;
  std::vector<std::pair<Point2, double>> taken_;
};

}  // namespace heron::render
