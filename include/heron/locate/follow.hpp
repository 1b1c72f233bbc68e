#pragma once
#include <optional>
#include <vector>

#include "heron/locate/detection.hpp"

namespace heron {

/// How detections are taken for the same thing from picture to picture.
struct FollowSettings {
  double reach_px = 80;     ///< from where it should be by now; 1 to 10000
  double lost_after_s = 1;  ///< without a detection; its identity is not given again. Above 0
  double span_s = 0.5;      ///< of the positions that a velocity is fitted to. Above 0
};

/// A speed in x and y with the sigma of each; nothing where it is not known.
struct Velocity {
  double x = 0, y = 0;
  std::optional<double> sigma_x = {}, sigma_y = {};
};

/// A detection with who it is and how it moves.
struct Followed {
  int identity = 0;                          ///< from 1, in the order in which they came
  int pictures = 1;                          ///< that it was seen in
  std::optional<Velocity> velocity = {};     ///< pixels a second; from its second picture on
  std::optional<Velocity> velocity_mm = {};  ///< millimetres a second in the world, where that is known
};

/// Keeps the identity of what is seen in picture after picture. What lies nearest to where it should be by
/// its velocity is taken for the same, the nearest pairs first; kinds of targets are kept apart. A velocity
/// is the slope of a straight line through the positions of the last `span_s`, by least squares.
class Follower {
 public:
  /// Throws Error{invalid_argument} for settings out of range.
  explicit Follower(const FollowSettings& settings = {});
  /// What was seen at that time, one answer a detection. `world`: where each is in the world; empty when
  /// nothing is known. Throws Error{invalid_argument} when the time does not grow, or the sizes differ.
  std::vector<Followed> follow(const std::vector<Detection>& seen, const std::vector<UserPoint>& world,
                               double at_s);
  /// Identities that were lost at the last call.
  const std::vector<int>& lost() const { return lost_; }

 private:
  struct Place {
    double at_s = 0;
    Point2 px;
    std::optional<double> sigma_x, sigma_y;
    std::optional<UserPoint> mm;
  };
  struct Thing {
    int identity = 0, pictures = 0;
    std::string target;
    std::vector<Place> places;
    std::optional<Velocity> velocity, velocity_mm;
    Point2 expected(double at_s) const;
  };
  void update(Thing& thing, const Place& place) const;

  FollowSettings settings_;
  std::vector<Thing> things_;
  std::vector<int> lost_;
  int next_ = 1;
  std::optional<double> last_s_;
};

}  // namespace heron
