#pragma once
#include <functional>
#include <optional>
#include <string>
#include <vector>

#include "heron/image/image.hpp"
#include "heron/station/gripper.hpp"

namespace heron {

/// A convex shape seen from above, in the frame that is sent.
struct Obstacle {
  std::string name;             ///< for people: "leaf (part 3)"
  std::vector<Point2> corners;  ///< millimetres, in order
  double top_mm = 0;            ///< above the table
};

/// A height map about the parts.
struct MeasuredHeights {
  const Image<float>& map;  ///< millimetres above the table, NaN where not measured
  /// Of a point in the frame that is sent; nothing where the camera does not see it.
  std::function<std::optional<Point2>(Point2)> pixel_of;
  double min_share = 0.5;  ///< of what lies below a piece of the hand that must be measured
  bool low_only = false;   ///< the palm is not looked at: the heights are not known
};

/// Stands for a height that is not known, only that something is there.
inline constexpr float some_height = 1e30f;
/// What a picture of light shows beside the empty table: `some_height` where a pixel differs from the table's
/// picture by more than `levels`, both brought to the same light by the median of their ratios; else below
/// everything.
Image<float> heights_of(const ImageView<const uint8_t>& picture, const ImageView<const uint8_t>& table,
                        double levels);

/// A rectangle of the hand, seen from above.
struct HandPiece {
  std::string name;                  ///< "finger 1", "the palm"
  std::vector<Point2> corners = {};  ///< in the frame that is sent
  double bottom_mm = 0;              ///< above the table
  const char* would = "strike";      ///< what it does to what is in its way
  bool on_part = false;              ///< the part itself is not in its way
  bool low = true;                   ///< comes down beside or onto the part
};

/// The hand at a pose in the frame that is sent, whose grasp lies at `z_mm` above the table. Each piece is
/// wider by the clearance on all sides.
std::vector<HandPiece> hand_at(const GripperSettings& gripper, const Pose2& pose, double z_mm,
                               double clearance_mm);

/// What the hand would strike, for people; empty when nothing is in its way.
std::string in_the_way(const std::vector<HandPiece>& hand, const std::vector<Obstacle>& obstacles);
/// The same of heights. What goes on the part is looked at outside `part` alone.
std::string in_the_way(const std::vector<HandPiece>& hand, const MeasuredHeights& heights,
                       const std::vector<Point2>& part);

/// Corners of the smallest convex shape about points, in order (Andrew's monotone chain, 1979).
std::vector<Point2> convex_hull(std::vector<Point2> points);

}  // namespace heron
