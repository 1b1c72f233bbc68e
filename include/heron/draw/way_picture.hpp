#pragma once
#include <string>
#include <vector>

#include "heron/base/pose.hpp"
#include "heron/image/image.hpp"

namespace heron {

/// A way that was driven, with what it should have followed and where it should have ended.
struct DrivenWay {
  std::vector<Point2> planned_mm;  ///< middle line of the stripe
  double planned_width_mm = 0;
  std::vector<Pose2> driven;  ///< world from vehicle, one after the other
  Point2 tip_mm;              ///< what is to arrive, in the vehicle's frame
  Pose2 goal;                 ///< x along the axis on which it should arrive
  double goal_within_mm = 1;
  std::vector<size_t> marked = {};      ///< of `driven`, places that have a number in the picture
  std::vector<std::string> words = {};  ///< below the picture
};

/// From above, 1280 x 800: the whole way on the left, and on the right how the tip came to the goal's axis,
/// with the distance from the axis enlarged.
Image<Rgb> draw_way(const DrivenWay& way);

}  // namespace heron
